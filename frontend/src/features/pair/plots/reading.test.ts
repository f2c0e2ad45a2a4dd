import { describe, expect, test } from "vitest";
import { distanceText, nextPeak, placeText, valuesText } from "./reading";

const spot = (x: number, value: number) => ({
  x,
  values: [{ label: "render", value, unit: "dBFS", decimals: 1 }],
});

test("an octave is 1200 cents, and levels differ in decibels", () => {
  expect(distanceText(spot(440, -20), spot(880, -26), "Hz", 48_000)).toBe(
    "+440.0 Hz, +1\u2009200 cents, render −6.0 dB",
  );
});

test("times differ in milliseconds and samples", () => {
  expect(distanceText(spot(1, 0), spot(1.5, 0), "s", 48_000)).toContain("+500.000 ms, +24\u2009000 samples");
  expect(placeText(0.5, "s", 48_000)).toBe("0.5000 s, sample 24\u2009000");
});

test("what is under the cursor is said in words", () => {
  expect(valuesText(spot(1, -3.04))).toBe("render −3.0 dBFS");
});

describe("walking peaks", () => {
  const values = [-100, -90, -20, -90, null, -88, -86, -40, -91, -30, -100];
  test("small bumps are no peaks", () => {
    expect(nextPeak(values, 0, 1)).toBe(2);
    expect(nextPeak(values, 2, 1)).toBe(7);
    expect(nextPeak(values, 7, 1)).toBe(9);
  });
  test("it goes back the same way, and ends", () => {
    expect(nextPeak(values, 9, -1)).toBe(7);
    expect(nextPeak(values, 7, -1)).toBe(2);
    expect(nextPeak(values, 2, -1)).toBeUndefined();
  });
});
