import { describe, expect, it } from "vitest";
import { at, bandsAt, height, place } from "./reading";

const DATA = {
  step: 0.1,
  floor: -120,
  momentary: [-120, -20, -18],
  short: [-120, -120, -19],
  needle: [
    [-20, -3, 0],
    [-10, -6, -120],
  ],
  peak: [
    [-6, -6, -3],
    [-9, -2, -9],
  ],
  true_peak: [
    [-5.9, -5.9, -2.9],
    [-8, -1.5, -8],
  ],
};

describe("what needles show", () => {
  it("is that of the step that sounds, and of the louder channel", () => {
    expect(at(DATA, 0.15, 0)).toEqual({ momentary: -20, short: -120, needle: -3, peak: -2, true_peak: -1.5 });
    expect(at(DATA, 0.29, 0).needle).toBe(0);
  });
  it("goes on with the last step at the end, and is louder by the gain", () => {
    const { momentary, short, needle, true_peak } = at(DATA, 9, 3);
    expect([momentary, short, needle]).toEqual([-15, -16, 3]);
    expect(true_peak).toBeCloseTo(0.1, 9);
    expect(at(DATA, 0, 6).momentary).toBe(-120);
  });
  it("stands on the scale by its amplitude", () => {
    expect(place(-20)).toBe(0);
    expect(place(3)).toBe(1);
    expect(place(0)).toBeCloseTo((1 - 0.1) / (10 ** (3 / 20) - 0.1), 6);
    expect(place(-60)).toBe(0);
    expect(place(9)).toBe(1);
  });
  it("has the bands of the minute that is known, and no others", () => {
    const data = {
      step: 0.1,
      first: 600,
      floor: -120,
      frequencies: [50, 63],
      levels: [
        [-20, -120],
        [-30, -40],
      ],
    };
    expect(bandsAt(data, 60.05, 6)).toEqual([-14, -120]);
    expect(bandsAt(data, 60.15, 0)).toEqual([-30, -40]);
    expect(bandsAt(data, 3, 0)).toEqual([]);
    expect(bandsAt(undefined, 60, 0)).toEqual([]);
    expect([height(-120), height(-45), height(6)]).toEqual([0, 0.5, 1]);
  });
});
