import type { QueryClient } from "@tanstack/react-query";
import type { Sheet } from "../../api/client";
import { MOST_SIDES } from "../../api/limits.gen";
import { kilohertz } from "../../ui/numbers";
import { listenAddress, type Spec } from "../listening/address";
import { sidesOf } from "../listening/sidesOf";
import { cellQuery } from "../pair/queries";

/** The page on which the renders of some cells are listened to: of one cell all of its sides. */
export async function listenToCells(queries: QueryClient, sheet: Sheet, ids: number[]): Promise<string> {
  const shown = ids.slice(0, MOST_SIDES);
  const pairs = await Promise.all(shown.map((id) => queries.fetchQuery(cellQuery(id))));
  const [only] = pairs;
  if (pairs.length === 1 && only) return listenAddress(sidesOf(only), `cells/${shown[0]}`);
  const sides = pairs.flatMap((pair, i): Spec[] => {
    const render = sidesOf(pair).find((one) => one.name === "Render");
    return render ? [{ spec: render.spec, name: nameOf(sheet, shown[i]) }] : [];
  });
  return listenAddress(sides, `runs/${sheet.run.id}`);
}

/** A cell by what tells it from others. */
function nameOf(sheet: Sheet, id: number | undefined): string {
  const cell = sheet.cells.find((one) => one.id === id);
  const row = sheet.cases.find((one) => one.id === cell?.case_id);
  const column = sheet.conditions.find((one) => one.id === cell?.condition_id);
  if (!row || !column) return `Cell ${id}`;
  return `${row.signal}, ${row.setting}, ${column.host} ${column.host_version}, ${kilohertz(column.rate)} kHz`;
}
