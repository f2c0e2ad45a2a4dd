import { expect, it } from "vitest";
import type { SignalKind, SignalParameter } from "../../api/client";
import { asked, described, same, withValue } from "./request";

const LEVEL = { key: "level", default: -12, unit: "dBFS" } as SignalParameter;
const TONE = { title: "Tone", parameters: [LEVEL] } as SignalKind;

it("a value that is usual is left out, so that equal requests look equal", () => {
  const quieter = withValue({ kind: "tone" }, LEVEL, -20);
  expect(quieter).toEqual({ kind: "tone", level: -20 });
  expect(asked(quieter, LEVEL)).toBe(-20);
  expect(same(withValue(quieter, LEVEL, -12), { kind: "tone" })).toBe(true);
  expect(asked({ kind: "tone" }, LEVEL)).toBe(-12);
});

it("requests are the same in whatever order their values stand", () => {
  expect(same({ kind: "tone", level: -20 }, { level: -20, kind: "tone" })).toBe(true);
});

it("a signal in words names what is not usual", () => {
  expect(described({ kind: "tone" }, TONE)).toBe("Tone");
  expect(described({ kind: "tone", level: -20.5 }, TONE)).toBe("Tone, −20.5 dBFS");
  expect(described({ name: "bell.wav, SHA-256 00" }, undefined)).toBe("Own file: bell.wav");
});
