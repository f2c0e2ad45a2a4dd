import { useMemo } from "react";
import type { Cell, Sheet } from "../../api/client";
import { verdictText } from "../../ui/words";
import { Ink } from "../sheet/Ink";
import { type Column, layOut, WHOLE } from "../sheet/layout";

/** The sheet as a small table that nothing is done with: blank where it is good. */
export function InkTable({ sheet }: { sheet: Sheet }) {
  const { columns, rows } = useMemo(() => layOut(sheet, WHOLE), [sheet]);
  return (
    <>
      <table className="w-full table-fixed border-collapse text-xs [print-color-adjust:exact]">
        <colgroup>
          <col className="w-64" />
          {columns.map(({ key }) => (
            <col key={key} />
          ))}
        </colgroup>
        <thead className="text-quiet">
          <tr>
            <th rowSpan={3} className="text-left align-bottom font-normal">
              Signal, setting
            </th>
            {spansOf(columns, (one) => one.group).map(({ name, span, at }) => (
              <th
                key={at}
                colSpan={span}
                className="truncate border-l border-line px-1 text-left font-semibold"
              >
                {name}
              </th>
            ))}
          </tr>
          <tr>
            {spansOf(columns, (one) => `${one.group}\n${one.second}`).map(({ name, span, at }) => (
              <th
                key={at}
                colSpan={span}
                className="truncate border-l border-line px-1 text-left font-normal"
              >
                {name.split("\n")[1]}
              </th>
            ))}
          </tr>
          <tr>
            {columns.map((one) => (
              <th key={one.key} className="truncate border-l border-line px-1 text-left font-normal">
                {one.third}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.key} className="break-inside-avoid border-t border-line">
              <th scope="row" className="py-0.5 pr-2 text-left font-normal break-words">
                {row.name}
              </th>
              {row.slots.map((slot, i) => (
                <td key={columns[i]?.key} className="relative h-5 border-l border-line">
                  {slot && (
                    <>
                      <Ink cell={slot.cell} tick={sheet.ink_at_limit} />
                      <span className="sr-only">{wordsOf(slot.cell)}</span>
                    </>
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <p className="pt-1 text-xs text-quiet">
        Blank passes. The more ink, the more difference: full for a failure, hatched for a change, grey where
        it is decided; a cross where nothing could be measured, a ring where no reference is approved.
      </p>
    </>
  );
}

/** Columns beside each other that share a name: how many, and the place of the first. */
function spansOf(columns: Column[], name: (column: Column) => string) {
  const found: { name: string; span: number; at: number }[] = [];
  for (const [at, column] of columns.entries()) {
    const last = found.at(-1);
    if (last?.name === name(column)) last.span += 1;
    else found.push({ name: name(column), span: 1, at });
  }
  return found;
}

const wordsOf = (cell: Cell) =>
  cell.decision?.holds
    ? `${verdictText(cell.verdict, cell.state)}, decided`
    : verdictText(cell.verdict, cell.state);
