import type { Sheet } from "../../api/client";

/** A sheet with the cells that it was sent without: those that are as they were in the sheet that is held. */
export function merged(held: Sheet | undefined, sent: Sheet): Sheet {
  if (sent.since === null || !held) return sent;
  const changed = new Map(sent.cells.map((cell) => [cell.id, cell]));
  return { ...sent, cells: held.cells.map((cell) => changed.get(cell.id) ?? cell) };
}
