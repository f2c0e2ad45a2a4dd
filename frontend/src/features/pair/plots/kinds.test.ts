import { describe, expect, test } from "vitest";
import type { Curve, Pair } from "../../../api/client";
import { CURVES, kindOf, PLOTS, plotsOf } from "./kinds";

const curve = (name: string, points = 2): Curve => ({
  name,
  side: "render",
  x_unit: "Hz",
  y_unit: "dB",
  x: Array.from({ length: points }, (_, i) => i + 1),
  y: Array.from({ length: points }, () => 0),
  marks: [],
});
const pair = (...curves: Curve[]) => ({ curves, readings: [] }) as unknown as Pair;

describe("which plot answers", () => {
  test.each([
    [["magnitude", "phase", "residual_bands"], "response"],
    [["transfer", "residual_bands"], "transfer"],
    [["products", "momentary"], "products"],
    [["gain", "momentary"], "gain"],
    [["latency_by_event"], "events"],
    [["alias_by_frequency"], "aliases"],
    [["fold_path", "fundamental", "magnitude"], "lines"],
    [["momentary", "residual_bands"], "waveform"],
    [[], "waveform"],
  ])("curves %j: %s", (names, first) => {
    expect(plotsOf(pair(...names.map((name) => curve(name)))).first).toBe(first);
  });

  test("there is no plot for a single point, and always three for any audio", () => {
    expect(plotsOf(pair(curve("magnitude", 1))).names).toEqual(["waveform", "spectrum", "map"]);
  });

  test("numbered curves are of one kind", () => {
    expect(kindOf("filter_magnitude 2")).toBe("filter_magnitude");
    expect(plotsOf(pair(curve("filter_magnitude 2"))).names).toContain("found");
  });

  test("each plot has a key of its own, and no curve stands in two", () => {
    const keys = Object.values(PLOTS).map((plot) => plot.key);
    expect(new Set(keys).size).toBe(keys.length);
    const curves = Object.values(CURVES).flat(2);
    expect(new Set(curves).size).toBe(curves.length);
  });
});
