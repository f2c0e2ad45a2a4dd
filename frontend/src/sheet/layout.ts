import type { Cell, Condition, Sheet } from "../api/client";

export interface Column {
  condition: Condition;
  firstOfHost: boolean;
  firstOfMode: boolean;
}
export interface Row {
  id: number;
  signal: string;
  setting: string;
  firstOfSignal: boolean;
  cells: (Cell | undefined)[];
}
export interface Layout {
  columns: Column[];
  rows: Row[];
}
export interface Position {
  row: number;
  column: number;
}

const hostOf = (condition: Condition) => `${condition.host} ${condition.host_version}`;

/** The sheet as rows and columns, with the hosts and rates that the sentence asks for. */
export function layOut(sheet: Sheet, host: string, rate: string): Layout {
  const conditions = sheet.conditions.filter(
    (condition) =>
      (host === "" || condition.host === host) && (rate === "" || String(condition.rate) === rate),
  );
  const columns = conditions.map((condition, i) => {
    const before = conditions[i - 1];
    const firstOfHost = !before || hostOf(before) !== hostOf(condition);
    return { condition, firstOfHost, firstOfMode: firstOfHost || before.mode !== condition.mode };
  });
  const found = new Map(sheet.cells.map((cell) => [`${cell.case_id}/${cell.condition_id}`, cell]));
  const rows = sheet.cases.map((one, i) => ({
    ...one,
    firstOfSignal: sheet.cases[i - 1]?.signal !== one.signal,
    cells: conditions.map((condition) => found.get(`${one.id}/${condition.id}`)),
  }));
  return { columns, rows };
}

export const needsYou = (cell: Cell | undefined): boolean =>
  cell !== undefined && cell.verdict !== "Pass" && (cell.state === "done" || cell.state === "failed");

/** Where a cell stands; undefined where the filter hides it. */
export function find(layout: Layout, cellId: number | undefined): Position | undefined {
  for (const [row, { cells }] of layout.rows.entries()) {
    const column = cells.findIndex((cell) => cell?.id === cellId);
    if (column >= 0) return { row, column };
  }
  return undefined;
}

export const at = (layout: Layout, { row, column }: Position): Cell | undefined =>
  layout.rows[row]?.cells[column];

/** One step, held at the edges. */
export function step(layout: Layout, from: Position, down: number, right: number): Position {
  const hold = (value: number, most: number) => Math.min(Math.max(value, 0), most);
  return {
    row: hold(from.row + down, layout.rows.length - 1),
    column: hold(from.column + right, layout.columns.length - 1),
  };
}

/** The next cell that needs a person, reading row by row; `by` is 1 or −1. */
export function nextTrouble(layout: Layout, from: Position | undefined, by: 1 | -1): Position | undefined {
  const width = layout.columns.length;
  const total = layout.rows.length * width;
  const start = from ? from.row * width + from.column : by === 1 ? -1 : total;
  for (let i = start + by; i >= 0 && i < total; i += by) {
    const position = { row: Math.floor(i / width), column: i % width };
    if (needsYou(at(layout, position))) return position;
  }
  return undefined;
}

/** All cells of the rectangle between two corners. */
export function rectangle(layout: Layout, a: Position, b: Position): number[] {
  const ids: number[] = [];
  for (let row = Math.min(a.row, b.row); row <= Math.max(a.row, b.row); row++)
    for (let column = Math.min(a.column, b.column); column <= Math.max(a.column, b.column); column++) {
      const cell = at(layout, { row, column });
      if (cell) ids.push(cell.id);
    }
  return ids;
}
