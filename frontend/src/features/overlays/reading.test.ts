import { expect, test } from "vitest";
import type { Overlay, OverlayLine } from "./queries";
import { extent, nearest, told } from "./reading";

const line = {
  number: 1,
  label: "warm.wav",
  x: [100, 1000, 10_000],
  y: [0, 3, -6.004],
  low: null,
  difference: { x: [100, 1000, 10_000], y: [0, null, -6], low: null },
} satisfies OverlayLine;
const overlay = { x_unit: "Hz", y_unit: "dB", difference_unit: "dB" } as Overlay;

test("the nearest point is the nearest on the axis as it is drawn", () => {
  expect(nearest(line, 400, true)).toBe(1);
  expect(nearest(line, 400, false)).toBe(0);
  expect(nearest(line, 1, true)).toBe(0);
  expect(nearest(line, 99_999, true)).toBe(2);
  expect(nearest({ x: [], y: [] }, 1, false)).toBeUndefined();
  expect(nearest({ x: [5], y: [1] }, 1, false)).toBe(0);
});

test("a line is told by its value and by how far it is from the reference, where that is known", () => {
  expect(told(overlay, line, 9000)).toBe("warm.wav: −6.00 dB at 10\u2009000 Hz, −6.00 dB from the reference");
  expect(told(overlay, line, 900)).toBe("warm.wav: 3.00 dB at 1\u2009000 Hz");
  const wave = { ...line, low: [-1, -0.5, 0], difference: null };
  expect(told({ ...overlay, x_unit: "s", y_unit: "FS" }, wave, 100)).toBe(
    "warm.wav: −1.0000 to 0.0000 FS at 100.000 s",
  );
});

test("an axis has room for all that is looked at", () => {
  expect(
    extent(
      [
        [0, 10],
        [null, -200],
      ],
      -160,
    ),
  ).toEqual([-0.5, 10.5]);
  expect(extent([[]])).toEqual([0, 1]);
  expect(extent([[2, 2]])[0]).toBeLessThan(2);
});
