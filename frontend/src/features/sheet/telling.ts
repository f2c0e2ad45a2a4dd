import type { Sheet } from "../../api/client";
import type { Choice } from "../../ui/controls";
import { count, kilohertz } from "../../ui/numbers";

/** What is to be approved, in words. */
export function rendersText(sheet: Sheet, ids: number[]): string {
  const wanted = new Set(ids);
  const unfit = sheet.cells.filter((cell) => wanted.has(cell.id) && cell.unfit).length;
  const renders = `${count(ids.length, "render")} of ${sheet.run.effect} ${sheet.run.build.version}`;
  return unfit > 0 ? `${renders}, of which ${unfit} failed integrity and cannot be approved` : renders;
}

/** What a run can be compared with: its references, other builds, and what its conditions differ in. */
export function othersOf(sheet: Sheet): Choice[] {
  const several = (kind: string, values: [string, string][]): Choice[] =>
    new Map(values).size > 1
      ? [...new Map(values)].map(([value, label]) => ({ value: `${kind}:${value}`, label }))
      : [];
  const { conditions, siblings, run } = sheet;
  return [
    { value: "", label: "approved references" },
    ...siblings
      .filter((one) => one.run_id !== run.id)
      .map((one) => ({ value: `build:${one.run_id}`, label: `${run.effect} ${one.version}` })),
    ...several(
      "host",
      conditions.map((c) => [`${c.host} ${c.host_version}`, `${c.host} ${c.host_version}`]),
    ),
    ...several(
      "mode",
      conditions.map((c) => [c.mode, c.mode === "offline" ? "offline rendering" : "real time"]),
    ),
    ...several(
      "rate",
      conditions.map((c) => [String(c.rate), `${kilohertz(c.rate)} kHz`]),
    ),
  ];
}
