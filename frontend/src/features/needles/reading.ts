import type { Schemas } from "../../api/client";

type Data = Schemas["NeedlesBody"];

export interface Shown {
  momentary: number;
  short: number;
  needle: number;
  peak: number;
  true_peak: number;
}

/** The ends of the scale of a needle, in VU. */
export const START = -20;
export const END = 3;

/** Where a deflection stands on the scale, 0 to 1: by the amplitude, as a needle's does. */
export function place(vu: number): number {
  const least = 10 ** (START / 20);
  const most = 10 ** (END / 20);
  return Math.min(1, Math.max(0, (10 ** (vu / 20) - least) / (most - least)));
}

/** What needles show at a time, played louder by a gain: of several channels the greatest. */
export function at(data: Data, seconds: number, gain: number): Shown {
  const step = Math.min(data.momentary.length - 1, Math.max(0, Math.floor(seconds / data.step)));
  const louder = (value: number | undefined) =>
    value === undefined || value <= data.floor ? data.floor : value + gain;
  const most = (channels: number[][]) => louder(Math.max(...channels.map((one) => one[step] ?? data.floor)));
  return {
    momentary: louder(data.momentary[step]),
    short: louder(data.short[step]),
    needle: most(data.needle),
    peak: most(data.peak),
    true_peak: most(data.true_peak),
  };
}

type Bands = Schemas["RunningBandsBody"];

/** Seconds of which one request tells the spectra. */
export const PART_SECONDS = 60;

/** The level of each band at a time, played louder by a gain; none where that minute is not known. */
export function bandsAt(data: Bands | undefined, seconds: number, gain: number): number[] {
  if (!data) return [];
  const levels = data.levels[Math.floor(seconds / data.step) - data.first] ?? [];
  return levels.map((level) => (level <= data.floor ? data.floor : level + gain));
}

const LOWEST_SHOWN = -90;

/** How high a band of that level stands, 0 to 1: from −90 dBFS up to full scale. */
export const height = (level: number): number => Math.min(1, Math.max(0, 1 - level / LOWEST_SHOWN));
