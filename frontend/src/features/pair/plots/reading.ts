import { number } from "../../../ui/numbers";

/** What stands under a cursor: a place on the axis, and what is there of each line. */
export interface Spot {
  x: number;
  values: { label: string; value: number; unit: string; decimals: number }[];
}

/** A place on an axis, in words. */
export function placeText(x: number, unit: string, rate: number): string {
  if (unit === "Hz") return `${number(x, x < 100 ? 1 : 0)} Hz`;
  if (unit === "s") return `${number(x, 4)} s, sample ${number(Math.floor(x * rate), 0)}`;
  return unit === "" ? number(x, 0) : `${number(x, 2)} ${unit}`;
}

export const valuesText = (spot: Spot): string =>
  spot.values.map((one) => `${one.label} ${number(one.value, one.decimals)} ${one.unit}`.trim()).join(", ");

/** How far a spot lies from a mark: over the axis, and of each line that stands in both. */
export function distanceText(mark: Spot, spot: Spot, unit: string, rate: number): string {
  const by = spot.x - mark.x;
  const over =
    unit === "Hz"
      ? [
          `${number(by, 1, true)} Hz`,
          ...(mark.x > 0 && spot.x > 0
            ? [`${number(1200 * Math.log2(spot.x / mark.x), 0, true)} cents`]
            : []),
        ]
      : unit === "s"
        ? [`${number(1000 * by, 3, true)} ms`, `${number(by * rate, 0, true)} samples`]
        : [`${number(by, 2, true)} ${unit}`.trim()];
  const values = spot.values.flatMap((one) => {
    const there = mark.values.find((other) => other.label === one.label);
    if (!there) return [];
    const dB = one.unit.startsWith("dB") || one.unit === "LUFS" ? "dB" : one.unit;
    return [`${one.label} ${number(one.value - there.value, one.decimals, true)} ${dB}`.trim()];
  });
  return [...over, ...values].join(", ");
}

const STANDS_OUT = 12; // of what the axis counts, above the lowest on the way there and the way on
const DEEPEST = 90; // under the greatest of all, where what stands out is noise

/** Index of the next local maximum that stands out, to the right or to the left; undefined at the end. */
export function nextPeak(
  values: readonly (number | null | undefined)[],
  from: number,
  by: 1 | -1,
): number | undefined {
  const least = Math.max(...values.map((value) => value ?? Number.NEGATIVE_INFINITY)) - DEEPEST;
  let lowest = values[from] ?? Number.POSITIVE_INFINITY;
  let best: number | undefined;
  for (let i = from + by; i >= 0 && i < values.length; i += by) {
    const here = values[i];
    if (here == null) continue;
    const top = best === undefined ? undefined : (values[best] ?? undefined);
    if (top !== undefined && here <= top - STANDS_OUT) return best;
    if (here >= least && (top === undefined ? here >= lowest + STANDS_OUT : here > top)) best = i;
    lowest = Math.min(lowest, here);
  }
  return best;
}
