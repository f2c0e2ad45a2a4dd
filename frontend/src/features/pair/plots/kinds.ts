import type { Pair } from "../../../api/client";
import { toneLines } from "./toneLines";

/** The large plots, with the key of each. */
export const PLOTS = {
  waveform: { title: "Waveform", key: "v" },
  spectrum: { title: "Spectrum", key: "e" },
  map: { title: "Level map", key: "m" },
  lines: { title: "Lines", key: "t" },
  aliases: { title: "Aliases", key: "y" },
  products: { title: "Products", key: "d" },
  response: { title: "Response", key: "r" },
  transfer: { title: "Transfer", key: "c" },
  gain: { title: "Gain", key: "g" },
  events: { title: "Events", key: "k" },
  loudness: { title: "Loudness", key: "h" },
  found: { title: "Found", key: "f" },
  bands: { title: "Bands", key: "b" },
} as const;
export type PlotName = keyof typeof PLOTS;

/** Which curves each plot draws; those of one line share a chart, lines stand under each other. */
export const CURVES: Partial<Record<PlotName, string[][]>> = {
  aliases: [["alias_by_frequency"], ["thd_by_frequency"], ["noise_by_frequency"]],
  response: [["magnitude"], ["phase"], ["group_delay"], ["coherence"]],
  products: [["products"]],
  transfer: [["transfer", "transfer_expected"], ["transfer_error"]],
  gain: [["gain"]],
  events: [["latency_by_event"]],
  loudness: [["momentary"], ["short"]],
  found: [["filter_magnitude"], ["filter_phase"], ["output_over_input"], ["gain_over_time"]],
  bands: [["residual_bands"]],
};

/** The name of a curve without the number that tells it from others of its kind. */
export const kindOf = (name: string): string => name.replace(/ \d+$/, "");

/** The plots that there is something to draw in, the one that answers the signal's question first chosen. */
export function plotsOf(pair: Pair): { names: PlotName[]; first: PlotName } {
  const drawn = new Set(pair.curves.filter((curve) => curve.x.length > 1).map((curve) => kindOf(curve.name)));
  const has = (name: PlotName) => (CURVES[name] ?? []).flat().some((curve) => drawn.has(curve));
  const tone = toneLines(pair) !== null;
  const names: PlotName[] = (Object.keys(PLOTS) as PlotName[]).filter((name) => {
    if (name === "waveform" || name === "spectrum" || name === "map") return true;
    if (name === "lines") return tone;
    return has(name);
  });
  const order: PlotName[] = ["lines", "aliases", "products", "response", "transfer", "gain", "events"];
  return { names, first: order.find((name) => names.includes(name)) ?? "waveform" };
}
