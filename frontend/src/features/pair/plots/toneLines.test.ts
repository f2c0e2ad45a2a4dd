import { describe, expect, test, vi } from "vitest";
import type { Curve, Pair } from "../../../api/client";

vi.mock("uplot", () => ({ default: { pxRatio: 1 } }));
vi.stubGlobal("document", {});
vi.stubGlobal("getComputedStyle", () => ({ getPropertyValue: () => "black" }));

import { pathChart, stemsChart, toneLines } from "./toneLines";

const curve = (name: string, side: Curve["side"], x: number[], y: number[]): Curve => ({
  name,
  side,
  x,
  y,
  x_unit: "Hz",
  y_unit: "dBFS",
  marks: [],
});

const CURVES = [
  curve("fundamental", "render", [997], [-6]),
  curve("harmonics", "render", [2991, 4985], [-40, -52]),
  curve("harmonic_orders", "render", [3, 5], [-40, -52]),
  curve("aliases", "render", [1200], [-91]),
  curve("alias_orders", "render", [47], [-91]),
  curve("fold_path", "render", [1, 3, 5], [997, 2991, 4985]),
  curve("fundamental", "reference", [997], [-6.1]),
];
const READING = { measure: "alias_worst_level", channel: "all", limit: { at_most: -90 }, why: null };
const pair = (curves: Curve[], readings: unknown[] = [READING]) => ({ curves, readings }) as unknown as Pair;

describe("the lines of a tone", () => {
  test("each has its order, its level and what it is, side by side", () => {
    const tone = toneLines(pair(CURVES));
    expect(tone?.fundamental).toBe(997);
    expect(tone?.render).toEqual([
      { order: 1, frequency: 997, level: -6, kind: "harmonic" },
      { order: 3, frequency: 2991, level: -40, kind: "harmonic" },
      { order: 5, frequency: 4985, level: -52, kind: "harmonic" },
      { order: 47, frequency: 1200, level: -91, kind: "alias" },
    ]);
    expect(tone?.reference).toEqual([{ order: 1, frequency: 997, level: -6.1, kind: "harmonic" }]);
    expect([tone?.limit, tone?.why]).toEqual([-90, null]);
  });

  test("there are none where no tone was measured, and no limit where none is set", () => {
    expect(toneLines(pair([]))).toBeNull();
    expect(toneLines(pair(CURVES.filter((one) => one.name !== "fold_path")))).toBeNull();
    const unlimited = toneLines(pair(CURVES, [{ ...READING, limit: null, why: "none stands out" }]));
    expect([unlimited?.limit, unlimited?.why]).toEqual([null, "none stands out"]);
  });

  test.each([
    { level: -91, limit: null, low: -120 },
    { level: -131, limit: null, low: -150 },
    { level: -300, limit: null, low: -150 },
    { level: -40, limit: -125, low: -150 },
  ])(
    "the axis goes down to $low for an alias of $level dBFS and a limit of $limit",
    ({ level, limit, low }) => {
      const curves = [...CURVES.slice(0, 3), curve("aliases", "render", [1200], [level]), ...CURVES.slice(4)];
      const tone = toneLines(
        pair(curves, [{ ...READING, limit: limit === null ? null : { at_most: limit } }]),
      );
      if (!tone) throw new Error("there are lines");
      const options = stemsChart(tone, 48_000).options({ width: 600, height: 300 });
      expect(options.scales?.y?.range).toEqual([low, 0]);
      expect(options.scales?.x?.range).toEqual([0, 24_000]);
    },
  );

  test("what a reader of the screen hears of a line is its side, kind and order", () => {
    const tone = toneLines(pair(CURVES));
    if (!tone) throw new Error("there are lines");
    const { points } = stemsChart(tone, 48_000);
    expect(points?.map((one) => one.text)).toEqual([
      "reference, harmonic of order 1",
      "render, harmonic of order 1",
      "render, harmonic of order 3",
      "render, harmonic of order 5",
      "render, alias of order 47",
    ]);
    const path = pathChart(tone, 48_000).options({ width: 600, height: 120 });
    expect(path.scales?.y).toEqual({ range: [0, 5.5], dir: -1 });
  });
});
