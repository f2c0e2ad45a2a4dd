import { describe, expect, it } from "vitest";
import { held, middle, moved, single, type View, zoomed } from "./view";

const FRAMES = 48_000;

describe("a view", () => {
  it.each<[View, View]>([
    [
      { start: -100, stop: 900 },
      { start: 0, stop: 1000 },
    ],
    [
      { start: 47_500, stop: 48_500 },
      { start: 47_000, stop: 48_000 },
    ],
    [
      { start: 100, stop: 102 },
      { start: 100, stop: 108 },
    ],
    [
      { start: -5000, stop: 90_000 },
      { start: 0, stop: FRAMES },
    ],
  ])("%o is held inside the file", (asked, wanted) => {
    expect(held(asked, FRAMES)).toEqual(wanted);
  });

  it("of a file shorter than the narrowest view is the file", () => {
    expect(held({ start: 0, stop: 1 }, 3)).toEqual({ start: 0, stop: 3 });
  });

  it("keeps its place under the pointer when it is zoomed", () => {
    const before = { start: 10_000, stop: 30_000 };
    const after = zoomed(before, 0.5, 15_000, FRAMES);
    expect((15_000 - after.start) / (after.stop - after.start)).toBeCloseTo(0.25, 3);
    expect(zoomed(after, 2, 15_000, FRAMES)).toEqual(before);
  });

  it("moves by its own width and stops at the ends", () => {
    expect(moved({ start: 0, stop: 1000 }, 0.5, FRAMES)).toEqual({ start: 500, stop: 1500 });
    expect(moved({ start: 0, stop: 1000 }, -0.5, FRAMES)).toEqual({ start: 0, stop: 1000 });
  });

  it("of single samples is about its frame", () => {
    expect(middle(single(24_000, FRAMES))).toBe(24_000);
  });
});
