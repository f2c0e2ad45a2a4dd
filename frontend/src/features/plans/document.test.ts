import { describe, expect, it } from "vitest";
import type { PlanDocument } from "../../api/client";
import { bytes, changed, listed, newCase, newCondition } from "./document";

describe("a list that is typed", () => {
  it.each([
    ["2, 4, 8", [2, 4, 8]],
    ["2;4 8", [2, 4, 8]],
    ["−12, -6", [-12, -6]],
    ["soft, hard", ["soft", "hard"]],
    ["2, x, 4", [2, "x", 4]],
    [" , ", []],
    ["", []],
  ])("%s", (text, wanted) => {
    expect(listed(text)).toEqual(wanted);
  });
});

it("replaces or leaves out one of a list and keeps the list that it was given", () => {
  const list = [1, 2, 3];
  expect(changed(list, 1, 9)).toEqual([1, 9, 3]);
  expect(changed(list, 1, undefined)).toEqual([1, 3]);
  expect(list).toEqual([1, 2, 3]);
});

it("sizes", () => {
  expect([999, 1e6, 2.34e9].map(bytes)).toEqual(["1 kB", "1 MB", "2.3 GB"]);
});

it("a new condition is offline where the host can do that", () => {
  expect(newCondition("Quayside", "4.2", ["real time", "offline"]).modes).toEqual(["offline"]);
  expect(newCondition("Quayside", "4.2", ["real time"]).modes).toEqual(["real time"]);
});

it("a new case begins as a copy of the last", () => {
  const last = { signal: "sweep", setting: "loud", takes: 3 };
  expect(newCase({ cases: [last] } as PlanDocument, "soft", "tone")).toEqual(last);
  expect(newCase({ cases: [] as object[] } as PlanDocument, "soft", "tone")).toMatchObject({
    signal: "tone",
    setting: "soft",
    takes: 1,
  });
});
