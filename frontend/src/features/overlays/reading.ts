import { number } from "../../ui/numbers";
import type { Overlay, OverlayLine } from "./queries";

type Points = Pick<OverlayLine, "x" | "y">;

/** Index of the point of a line that is nearest to a place; undefined of a line without one. */
export function nearest({ x }: Points, place: number, logarithmic: boolean): number | undefined {
  if (x.length === 0) return undefined;
  let [low, high] = [0, x.length - 1];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if ((x[middle] ?? 0) <= place) low = middle;
    else high = middle;
  }
  const far = (i: number) => {
    const at = x[i] ?? 0;
    return logarithmic && at > 0 && place > 0 ? Math.abs(Math.log(at / place)) : Math.abs(at - place);
  };
  return far(low) <= far(high) ? low : high;
}

/** A place on the axis, in words. */
export function placeText(x: number, unit: string): string {
  if (unit === "Hz") return `${number(x, x < 100 ? 1 : 0)} Hz`;
  if (unit === "s") return `${number(x, 3)} s`;
  return unit === "" ? `order ${number(x, 0)}` : `${number(x, 1)} ${unit} in`;
}

/** What stands at a place of a line, as the server measured it there: its value, and how far from the reference. */
export function told(overlay: Overlay, line: OverlayLine, place: number): string {
  const logarithmic = overlay.x_unit === "Hz";
  const at = nearest(line, place, logarithmic);
  if (at === undefined) return line.label;
  const value = `${number(line.y[at] ?? 0, 2)} ${overlay.y_unit}`;
  const said = line.low
    ? `${number(line.low[at] ?? 0, 4)} to ${number(line.y[at] ?? 0, 4)} ${overlay.y_unit}`
    : value;
  const text = `${line.label}: ${said} at ${placeText(line.x[at] ?? 0, overlay.x_unit)}`;
  if (!line.difference) return text;
  const beside = nearest(line.difference, line.x[at] ?? 0, logarithmic);
  if (beside === undefined) return text;
  const by = line.difference.y[beside];
  if (by == null) return text;
  return `${text}, ${number(by, 2, true)} ${overlay.difference_unit} from the reference`;
}

/** Least and greatest of all values, with a margin. */
export function extent(
  values: (number | null)[][],
  least: number | null = null,
  margin = 0.05,
): [number, number] {
  let [low, high] = [Number.POSITIVE_INFINITY, Number.NEGATIVE_INFINITY];
  for (const some of values)
    for (const value of some) {
      if (value === null || (least !== null && value < least)) continue;
      if (value < low) low = value;
      if (value > high) high = value;
    }
  if (low > high) return [0, 1];
  const room = (high - low || Math.abs(high) || 1) * margin;
  return [low - room, high + room];
}
