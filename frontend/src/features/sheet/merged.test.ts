import { expect, test } from "vitest";
import type { Sheet } from "../../api/client";
import { merged } from "./merged";

const sheet = (since: string | null, cells: [number, string][]) =>
  ({ since, cells: cells.map(([id, verdict]) => ({ id, verdict })) }) as unknown as Sheet;
const verdicts = (one: Sheet) => one.cells.map((cell) => [cell.id, cell.verdict]);

const held = sheet(null, [
  [3, "Waiting"],
  [1, "Pass"],
  [2, "Waiting"],
]);

test("only what changed is replaced, in the order of before", () => {
  const now = merged(held, sheet("v1", [[2, "Fail"]]));
  expect(verdicts(now)).toEqual([
    [3, "Waiting"],
    [1, "Pass"],
    [2, "Fail"],
  ]);
  expect(now.cells[1]).toBe(held.cells[1]);
});

test("a whole sheet stands by itself", () => {
  const whole = sheet(null, [[9, "Pass"]]);
  expect(merged(held, whole)).toBe(whole);
  expect(merged(undefined, whole)).toBe(whole);
});
