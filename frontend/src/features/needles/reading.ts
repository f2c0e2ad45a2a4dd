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
