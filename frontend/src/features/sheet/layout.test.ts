import { beforeEach, describe, expect, it } from "vitest";
import type { Cell, Condition, Finding, Sheet } from "../../api/client";
import { find, layOut, nextTrouble, partsOf, rectangle, step, type View, WHOLE } from "./layout";

const condition = (id: number, host: string, rate: number, mode = "offline") =>
  ({ id, host, host_version: "1.0", mode, rate, block_size: 512 }) as Condition;
const CONDITIONS = [
  condition(1, "Quayside", 48_000),
  condition(2, "Quayside", 96_000),
  condition(3, "Slipway", 48_000, "real time"),
];
const CASES = [
  { id: 1, signal: "sweep", setting: "soft" },
  { id: 2, signal: "sweep", setting: "loud" },
  { id: 3, signal: "tone", setting: "loud" },
];
let sheet: Sheet;
const cellOf = (caseId: number, conditionId: number) =>
  sheet.cells.find((one) => one.case_id === caseId && one.condition_id === conditionId) as Cell;
const shape = (view: Partial<View>) => {
  const { rows, columns, shown } = layOut(sheet, { ...WHOLE, ...view });
  return { rows: rows.map((row) => row.name), columns: columns.map((column) => column.label), shown };
};

beforeEach(() => {
  const cells = CASES.flatMap((one) =>
    CONDITIONS.map((c) => ({
      id: 10 * one.id + c.id,
      case_id: one.id,
      condition_id: c.id,
      verdict: "Pass",
      state: "done",
      needs_you: false,
      ink: 0,
      change: null,
    })),
  );
  sheet = { cells, cases: CASES, conditions: CONDITIONS } as unknown as Sheet;
  Object.assign(cellOf(3, 2), { verdict: "Fail", needs_you: true, ink: 1, change: "new" });
  Object.assign(cellOf(1, 3), { verdict: "Changed", needs_you: true, ink: 0.4 });
});

describe("a sheet", () => {
  it("shows every cell", () => {
    expect(shape({})).toEqual({
      rows: ["sweep, soft", "sweep, loud", "tone, loud"],
      columns: [
        "Quayside 1.0, offline, 48 kHz",
        "Quayside 1.0, offline, 96 kHz",
        "Slipway 1.0, real time, 48 kHz",
      ],
      shown: 9,
    });
  });

  it("shows by verdict what is finished alone: one that is under way has none yet", () => {
    Object.assign(cellOf(2, 1), { verdict: "Waiting", state: "rendering" });
    Object.assign(cellOf(2, 2), { verdict: "Waiting", state: "done" });
    expect(shape({ only: "Waiting" })).toEqual({
      rows: ["sweep, loud"],
      columns: ["Quayside 1.0, offline, 96 kHz"],
      shown: 1,
    });
  });

  it("puts the cell with more ink of two alike in front where it is folded", () => {
    Object.assign(cellOf(1, 1), { verdict: "Fail", needs_you: true, ink: 0.2 });
    Object.assign(cellOf(2, 1), { verdict: "Fail", needs_you: true, ink: 0.7 });
    const { rows } = layOut(sheet, { ...WHOLE, folded: new Set(["row sweep"]) });
    expect(rows[0]?.slots[0]?.cell.id).toBe(21);
  });

  it("leaves out rows and columns in which a filter finds nothing", () => {
    expect(shape({ only: "Fail" })).toEqual({
      rows: ["tone, loud"],
      columns: ["Quayside 1.0, offline, 96 kHz"],
      shown: 1,
    });
    expect(shape({ only: "by Nobody" }).shown).toBe(0);
    expect(shape({ only: "new" }).shown).toBe(1);
    expect(shape({ only: "needs" }).shown).toBe(2);
  });

  it("is filtered by host, rate and text at once", () => {
    expect(shape({ host: "Quayside", rate: "48000", text: " TONE " }).shown).toBe(1);
  });

  it("counts what a fold hides and shows the gravest of it", () => {
    const layout = layOut(sheet, { ...WHOLE, folded: new Set(["column Quayside 1.0", "row sweep"]) });
    expect(layout.rows.map((row) => row.slots.map((slot) => 1 + (slot?.more ?? -1)))).toEqual([
      [4, 2],
      [2, 1],
    ]);
    expect(layout.rows[1]?.slots[0]?.cell.verdict).toBe("Fail");
    expect(layout.shown).toBe(9);
  });

  it("puts rows in trouble first when asked to", () => {
    expect(shape({ order: "trouble" }).rows).toEqual(["sweep, soft", "tone, loud", "sweep, loud"]);
  });

  it("names the block size where conditions differ in nothing else", () => {
    sheet.conditions = [...CONDITIONS, { ...condition(4, "Quayside", 48_000), block_size: 64 }];
    expect(shape({}).columns).toContain("Quayside 1.0, offline, 48 kHz, block 64");
  });
});

describe("walking", () => {
  it("goes over what is missing and stops at the edge", () => {
    sheet.cells = sheet.cells.filter((one) => one.id !== 12);
    const layout = layOut(sheet, WHOLE);
    expect(step(layout, { row: 0, column: 0 }, 0, 1)).toEqual({ row: 0, column: 2 });
    expect(step(layout, { row: 0, column: 2 }, 0, 1)).toEqual({ row: 0, column: 2 });
  });

  it("finds trouble in both directions", () => {
    const layout = layOut(sheet, WHOLE);
    const first = nextTrouble(layout, undefined, 1);
    expect(first).toEqual(find(layout, 13));
    expect(nextTrouble(layout, first, 1)).toEqual(find(layout, 32));
    expect(nextTrouble(layout, find(layout, 32), 1)).toBeUndefined();
    expect(nextTrouble(layout, undefined, -1)).toEqual(find(layout, 32));
  });

  it("marks a rectangle from any two of its corners", () => {
    const layout = layOut(sheet, WHOLE);
    expect(rectangle(layout, { row: 1, column: 2 }, { row: 0, column: 1 })).toEqual([12, 13, 22, 23]);
  });
});

it("a finding is taken apart by what its cells differ in", () => {
  const finding = { cells: [11, 12, 21] } as Finding;
  expect(partsOf(sheet, finding)).toEqual([
    {
      factor: "Rate",
      parts: [
        ["48 kHz", [11, 21]],
        ["96 kHz", [12]],
      ],
    },
    {
      factor: "Setting",
      parts: [
        ["soft", [11, 12]],
        ["loud", [21]],
      ],
    },
  ]);
});
