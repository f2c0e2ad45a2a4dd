import type { Measure, TrendLine } from "../../api/client";
import { kilohertz, number } from "../../ui/numbers";

export const caseText = ({ signal, setting }: { signal: string; setting: string }) =>
  `${signal} through ${setting}`;
export const placeText = ({ condition: c }: TrendLine) =>
  `${c.host} ${c.host_version}, ${c.mode}${c.hosting && `, ${c.hosting}`}, ${kilohertz(c.rate)} kHz`;

type Step = TrendLine["changes"][number];

/** By how much a figure changed. */
export const stepText = (line: TrendLine, { by, place }: Step, measure: Measure): string => {
  if (by !== null) return number(by, measure.decimals, true);
  return line.points[place]?.value == null ? "gone" : "appears";
};
