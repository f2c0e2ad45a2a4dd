import type { Measure, TrendLine } from "../../api/client";
import { kilohertz, number } from "../../ui/numbers";

export const caseText = (line: TrendLine) => `${line.signal} through ${line.setting}`;
export const placeText = ({ condition: c }: TrendLine) =>
  `${c.host} ${c.host_version}, ${c.mode}${c.hosting && `, ${c.hosting}`}, ${kilohertz(c.rate)} kHz`;

type Step = TrendLine["changes"][number];

/** By how much a figure changed. */
export const stepText = (line: TrendLine, { by, place }: Step, measure: Measure): string => {
  if (by !== null) return number(by, measure.decimals, true);
  return line.points[place]?.value == null ? "gone" : "appears";
};

/** The case that changed last, else the first that has something to draw, else the first of all. */
export function worthOpening(lines: TrendLine[]): string {
  const latest = (line: TrendLine) => Math.max(-1, ...line.changes.map((step) => step.place));
  const values = (line: TrendLine) => line.points.filter((point) => point?.value != null).length;
  const [changed] = [...lines].sort((a, b) => latest(b) - latest(a));
  const opened =
    changed && latest(changed) >= 0 ? changed : (lines.find((line) => values(line) > 1) ?? lines[0]);
  return opened ? caseText(opened) : "";
}
