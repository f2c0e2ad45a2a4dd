import { expect, test } from "vitest";
import type { SetFile } from "./queries";
import { sorted } from "./sorting";

const file = (id: number, value: number | null, more: Partial<SetFile> = {}): SetFile => ({
  id, upload_id: id, name: `${id}.wav`, folder: "", role: "file", state: "done", why: "", rate: 48000, channels: 1,
  frames: 1, subtype: "PCM_16", address: "", comparison_id: null,
  readings: { rms: { value, change: null, at_most: null, why: null, reason: null, judgement: null } },
  ...more,
}); // biome-ignore format: a row of a table

const ids = (files: SetFile[]) => files.map((one) => one.id);

test("the greatest comes first, a null and silence last of those that were measured, none at the end", () => {
  const silent = file(4, null);
  const reading = silent.readings.rms;
  if (reading) reading.reason = "silence";
  const files = [file(1, -20), file(2, -3), silent, file(5, null, { readings: {} }), file(3, -60)];
  expect(ids(sorted(files, { key: "rms", upwards: false }))).toEqual([2, 1, 3, 4, 5]);
  expect(ids(sorted(files, { key: "rms", upwards: true }))).toEqual([4, 3, 1, 2, 5]);
});

test("two without a reading stay in order, and neither passes one that has any, either way", () => {
  const none = (id: number) => file(id, null, { readings: {} });
  const files = [none(1), file(2, -200), none(3), file(4, 0)];
  expect(ids(sorted(files, { key: "rms", upwards: true }))).toEqual([2, 4, 1, 3]);
  expect(ids(sorted(files, { key: "rms", upwards: false }))).toEqual([4, 2, 1, 3]);
});

test("the reference stays on top, and without an order files stand by folder and name", () => {
  const reference = file(9, -90, { role: "reference" });
  expect(ids(sorted([file(1, -1), reference], { key: "rms", upwards: false }))).toEqual([9, 1]);
  expect(ids(sorted([file(1, 0, { folder: "b" }), file(2, 0, { folder: "a" })], undefined))).toEqual([2, 1]);
  const takes = [file(1, 0, { name: "take 10.wav" }), file(2, 0, { name: "take 2.wav" })];
  expect(ids(sorted(takes, undefined))).toEqual([2, 1]);
});
