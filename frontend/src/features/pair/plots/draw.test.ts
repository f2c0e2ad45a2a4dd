import { describe, expect, test } from "vitest";
import type { Strip } from "../../../api/client";
import { greatest, magnification } from "./draw";

const strip = (low: number[][], high: number[][], samples: number[][] = []) =>
  ({ low, high, samples }) as unknown as Strip;

describe("how much a strip is magnified", () => {
  test("the greatest magnitude is that of any channel, of columns or samples", () => {
    expect(greatest(undefined)).toBe(0);
    expect(greatest(strip([[-0.2], [-0.7]], [[0.3], [0.1]]))).toBe(0.7);
    expect(greatest(strip([], [], [[0.1, -0.4]]))).toBe(0.4);
  });

  test.each([
    [0, 0],
    [2, 0],
    [1, 0],
    [0.5, 6],
    [0.51, 0],
    [0.001, 60],
    [1e-6, 120],
  ])("a peak of %d is raised by %d dB, and still fits", (peak, decibels) => {
    expect(magnification(peak)).toBe(decibels);
    expect(Math.max(peak * 10 ** (decibels / 20), 1)).toBeCloseTo(Math.max(peak, 1), 2);
  });
});
