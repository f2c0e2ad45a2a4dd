import type { Choice } from "../../ui/controls";
import { kilohertz } from "../../ui/numbers";

/** Lowest and highest frequency, Hz; 0 for no lower edge, half the rate or more for no upper one. */
export type Band = [low: number, high: number];

export const OCTAVES: Choice[] = [63, 125, 250, 500, 1000, 2000, 4000, 8000, 16_000].map((centre) => ({
  value: bandValue([Math.round(centre / Math.SQRT2), Math.round(centre * Math.SQRT2)]),
  label: `the octave at ${frequency(centre)}`,
}));

export function bandValue([low, high]: Band): string {
  return `${low}-${high}`;
}

/** A band as it stands in the sentence. */
export function bandLabel([low, high]: Band, rate: number): string {
  if (high >= rate / 2) return low === 0 ? "all frequencies" : `the band above ${frequency(low)}`;
  return low === 0
    ? `the band below ${frequency(high)}`
    : `the band from ${frequency(low)} to ${frequency(high)}`;
}

/** Hz that a person has typed, as 300, 3.4k, 3,4 kHz or 3400 Hz; NaN where it is no frequency. */
export function typedHertz(text: string): number {
  const [, digits = "", kilo] = /^\s*(\d+(?:[.,]\d+)?)\s*(k)?\s*(?:hz)?\s*$/i.exec(text) ?? [];
  return digits === ""
    ? Number.NaN
    : Number((Number(digits.replace(",", ".")) * (kilo ? 1000 : 1)).toFixed(3));
}

/** The band that two fields ask for, or why they ask for none; an empty field is no edge. */
export function typedBand(lowest: string, highest: string, rate: number): Band | string {
  const low = lowest.trim() === "" ? 0 : typedHertz(lowest);
  const high = highest.trim() === "" ? rate / 2 : typedHertz(highest);
  if (Number.isNaN(low) || Number.isNaN(high))
    return "Type each frequency in Hz or kHz, such as 300 or 3.4k.";
  if (low >= rate / 2) return `At this sample rate there is nothing above ${frequency(rate / 2)}.`;
  return low < high ? [low, high] : "The highest frequency must lie above the lowest.";
}

function frequency(hertz: number): string {
  return hertz < 1000 ? `${hertz} Hz` : `${kilohertz(hertz)} kHz`;
}
