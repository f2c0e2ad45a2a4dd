import type { Cell, Condition, Finding, Sheet } from "../../api/client";
import { kilohertz } from "../../ui/numbers";

/** How a sheet is laid out and what of it is shown. */
export interface View {
  host: string;
  rate: string;
  /** A verdict, "needs", "new", "still" or "fixed"; empty for every cell. */
  only: string;
  text: string;
  rowsBy: "signal" | "setting";
  columnsBy: "host" | "mode" | "rate";
  order: "plan" | "trouble";
  folded: ReadonlySet<string>;
}

/** All of a sheet, laid out as its plan has it. */
export const WHOLE: View = {
  host: "",
  rate: "",
  only: "",
  text: "",
  rowsBy: "signal",
  columnsBy: "host",
  order: "plan",
  folded: new Set(),
};

export interface Column {
  key: string;
  group: string;
  /** What the group's name ends in, where groups differ in that alone: it is never cut. */
  ending: string;
  first: boolean;
  second: string;
  firstOfSecond: boolean;
  third: string;
  /** The block size, where columns differ in it. */
  fourth: string;
  label: string;
  conditions: Condition[];
  folded: boolean;
}
/** A place of the sheet: the cell that is shown, the gravest where a fold holds several. */
export interface Slot {
  cell: Cell;
  more: number;
}
export interface Row {
  key: string;
  group: string;
  first: boolean;
  label: string;
  name: string;
  folded: boolean;
  slots: (Slot | undefined)[];
  troubled: number;
}
export interface Layout {
  columns: Column[];
  rows: Row[];
  shown: number;
}
export interface Position {
  row: number;
  column: number;
}

const hostOf = (c: Condition) => `${c.host} ${c.host_version}`;
const rateOf = (c: Condition) => `${kilohertz(c.rate)} kHz`;
/** How a host renders: its mode, and what it does beside. */
const modeOf = (c: Condition) => (c.hosting ? `${c.mode}, ${c.hosting}` : c.mode);
/** Group, second and third line of a column's head, by what the columns are grouped by. */
const HEADS: Record<View["columnsBy"], (c: Condition) => [string, string, string]> = {
  host: (c) => [hostOf(c), modeOf(c), kilohertz(c.rate)],
  mode: (c) => [modeOf(c), hostOf(c), kilohertz(c.rate)],
  rate: (c) => [rateOf(c), hostOf(c), c.mode === "real time" ? "live" : "off"],
};

const withoutVersion = (group: string) => group.slice(0, Math.max(0, group.lastIndexOf(" ")));
const version = (group: string) => group.slice(group.lastIndexOf(" ") + 1);

export const conditionText = (c: Condition) => `${hostOf(c)}, ${modeOf(c)}, ${rateOf(c)}`;

const GRAVITY: Record<Cell["verdict"], number> = {
  Fail: 4,
  "No reading": 3,
  Changed: 2,
  Waiting: 1,
  Pass: 0,
};
const graver = (a: Cell, b: Cell) =>
  Number(b.needs_you) - Number(a.needs_you) || GRAVITY[b.verdict] - GRAVITY[a.verdict] || b.ink - a.ink;

/** Who decided on cells is chosen by this and a name. */
export const DECIDED_BY = "by ";

export function wanted(cell: Cell, only: string): boolean {
  if (only === "") return true;
  if (only.startsWith(DECIDED_BY)) return cell.decision?.who === only.slice(DECIDED_BY.length);
  if (only === "needs") return cell.needs_you;
  if (only === "new" || only === "still" || only === "fixed") return cell.change === only;
  return cell.verdict === only && (cell.state === "done" || cell.state === "failed");
}

/** The sheet as rows and columns: filtered, grouped, folded and ordered as the view asks. */
export function layOut(sheet: Sheet, view: View): Layout {
  const head = HEADS[view.columnsBy];
  const needle = view.text.trim().toLowerCase();
  const found = new Map<string, Cell>();
  for (const cell of sheet.cells)
    if (wanted(cell, view.only)) found.set(`${cell.case_id}/${cell.condition_id}`, cell);
  const cases = sheet.cases.filter(
    (one) => needle === "" || `${one.signal} ${one.setting}`.toLowerCase().includes(needle),
  );
  const filtered = view.only !== "";
  const conditions = sheet.conditions.filter(
    (c) =>
      (view.host === "" || c.host === view.host) &&
      (view.rate === "" || String(c.rate) === view.rate) &&
      (!filtered || cases.some((one) => found.has(`${one.id}/${c.id}`))),
  );
  const columns = columnsOf(conditions, head, view);
  const slot = (cells: (Cell | undefined)[]): Slot | undefined => {
    const there = cells.filter((cell) => cell !== undefined).sort(graver);
    return there[0] && { cell: there[0], more: there.length - 1 };
  };
  const groupOf = (one: { signal: string; setting: string }) => one[view.rowsBy];
  const labelOf = (one: { signal: string; setting: string }) =>
    view.rowsBy === "signal" ? one.setting : one.signal;
  const groups = new Map<string, typeof cases>();
  for (const one of cases) groups.set(groupOf(one), [...(groups.get(groupOf(one)) ?? []), one]);
  const rows: Row[] = [];
  for (const [group, members] of groups) {
    const folded = view.folded.has(`row ${group}`);
    const made = (folded ? [members] : members.map((one) => [one])).map((ones): Row => {
      const slots = columns.map((column) =>
        slot(ones.flatMap((one) => column.conditions.map((c) => found.get(`${one.id}/${c.id}`)))),
      );
      const [one] = ones;
      return {
        key: folded ? `row ${group}` : String(one?.id),
        group,
        first: false,
        label: folded || !one ? `all ${ones.length}` : labelOf(one),
        name: folded || !one ? `${group}, all ${ones.length}` : `${one.signal}, ${one.setting}`,
        folded,
        slots,
        troubled: ones.reduce(
          (sum, { id }) =>
            sum +
            columns
              .flatMap((column) => column.conditions)
              .filter((c) => found.get(`${id}/${c.id}`)?.needs_you).length,
          0,
        ),
      };
    });
    rows.push(...(filtered ? made.filter((row) => row.slots.some((one) => one !== undefined)) : made));
  }
  if (view.order === "trouble") rows.sort((a, b) => b.troubled - a.troubled);
  rows.forEach((row, i) => {
    row.first = rows[i - 1]?.group !== row.group;
  });
  const shown = rows.reduce(
    (sum, row) => sum + row.slots.reduce((n, one) => n + (one ? 1 + one.more : 0), 0),
    0,
  );
  return { columns, rows, shown };
}

function columnsOf(
  conditions: Condition[],
  head: (c: Condition) => [string, string, string],
  view: View,
): Column[] {
  const groups = new Map<string, Condition[]>();
  for (const c of conditions) {
    const [group] = head(c);
    groups.set(group, [...(groups.get(group) ?? []), c]);
  }
  const columns: Column[] = [];
  const names = [...groups.keys()].map(withoutVersion);
  const several = conditions.some(
    (c, i) => i > 0 && conditions.slice(0, i).some((d) => conditionText(c) === conditionText(d)),
  );
  for (const [group, members] of groups) {
    const folded = view.folded.has(`column ${group}`);
    const seconds = [...new Set(members.map((c) => head(c)[1]))];
    const sorted = [...members].sort((a, b) => seconds.indexOf(head(a)[1]) - seconds.indexOf(head(b)[1]));
    for (const c of folded ? sorted.slice(0, 1) : sorted) {
      const before = columns.at(-1);
      const first = before?.group !== group;
      const [, second, third] = head(c);
      columns.push({
        key: folded ? `column ${group}` : String(c.id),
        group,
        ending: names.filter((name) => name === withoutVersion(group)).length > 1 ? version(group) : "",
        first,
        second: folded ? `all ${members.length}` : second,
        firstOfSecond: first || before?.second !== second,
        third: folded ? "" : third,
        fourth: folded || !several ? "" : String(c.block_size),
        label: folded
          ? `${group}, all ${members.length}`
          : conditionText(c) + (several ? `, block ${c.block_size}` : ""),
        conditions: folded ? sorted : [c],
        folded,
      });
    }
  }
  return columns;
}

export const at = (layout: Layout, { row, column }: Position): Cell | undefined =>
  layout.rows[row]?.slots[column]?.cell;

/** Where a cell stands; undefined where the filter or a fold hides it. */
export function find(layout: Layout, cellId: number | undefined): Position | undefined {
  if (cellId === undefined) return undefined;
  for (const [row, { slots }] of layout.rows.entries()) {
    const column = slots.findIndex((slot) => slot?.cell.id === cellId);
    if (column >= 0) return { row, column };
  }
  return undefined;
}

/** One step, held at the edges, over places that have no cell. */
export function step(layout: Layout, from: Position, down: number, right: number): Position {
  let { row, column } = from;
  for (;;) {
    row += down;
    column += right;
    if (row < 0 || column < 0 || row >= layout.rows.length || column >= layout.columns.length) return from;
    if (at(layout, { row, column })) return { row, column };
  }
}

/** The next cell that needs a person, reading row by row; `by` is 1 or −1. */
export function nextTrouble(layout: Layout, from: Position | undefined, by: 1 | -1): Position | undefined {
  const width = layout.columns.length;
  const total = layout.rows.length * width;
  const start = from ? from.row * width + from.column : by === 1 ? -1 : total;
  for (let i = start + by; i >= 0 && i < total; i += by) {
    const position = { row: Math.floor(i / width), column: i % width };
    if (at(layout, position)?.needs_you) return position;
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

/** A finding taken apart by one factor: the cells of each of its values, the most first. */
export function partsOf(sheet: Sheet, finding: Finding): { factor: string; parts: [string, number[]][] }[] {
  const cases = new Map(sheet.cases.map((one) => [one.id, one]));
  const conditions = new Map(sheet.conditions.map((c) => [c.id, c]));
  const members = new Set(finding.cells);
  const cells = sheet.cells.filter((cell) => members.has(cell.id));
  const told = (cell: Cell, text: (c: Condition) => string) => {
    const condition = conditions.get(cell.condition_id);
    return condition && text(condition);
  };
  const factors: [string, (cell: Cell) => string | undefined][] = [
    ["Host", (cell) => told(cell, hostOf)],
    ["Mode", (cell) => told(cell, (c) => c.mode)],
    ["Rate", (cell) => told(cell, rateOf)],
    ["Setting", (cell) => cases.get(cell.case_id)?.setting],
    ["Signal", (cell) => cases.get(cell.case_id)?.signal],
  ];
  return factors
    .map(([factor, value]) => {
      const parts = new Map<string, number[]>();
      for (const cell of cells) {
        const key = value(cell) ?? "";
        parts.set(key, [...(parts.get(key) ?? []), cell.id]);
      }
      return { factor, parts: [...parts].sort((a, b) => b[1].length - a[1].length) };
    })
    .filter(({ parts }) => parts.length > 1);
}
