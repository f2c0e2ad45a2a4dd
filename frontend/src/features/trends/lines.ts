import type { TrendLine } from "../../api/client";
import { kilohertz } from "../../ui/numbers";

export const caseText = (line: TrendLine) => `${line.signal} through ${line.setting}`;
export const placeText = ({ condition: c }: TrendLine) =>
  `${c.host} ${c.host_version}, ${c.mode}${c.hosting && `, ${c.hosting}`}, ${kilohertz(c.rate)} kHz`;
