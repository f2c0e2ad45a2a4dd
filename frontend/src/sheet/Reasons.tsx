import type { Reason, Sheet } from "../api/client";
import { count } from "../parts/numbers";

interface Props {
  sheet: Sheet;
  marked: ReadonlySet<number>;
  onMark: (cells: number[]) => void;
  onGo: (cell: number) => void;
}

/** What is wrong, once for all cells that share it. Choosing a reason marks its cells on the sheet. */
export function Reasons({ sheet, marked, onMark, onGo }: Props) {
  const under = sheet.run.finished < sheet.run.cells;
  return (
    <section aria-label="What needs you" className="w-64 shrink-0 overflow-auto px-5 pb-6 xl:w-72">
      <h2 className="pt-1 pb-2 text-quiet">
        {sheet.reasons.length > 0
          ? `What needs you, in ${count(sheet.reasons.length, "reason")}`
          : under
            ? "Nothing needs you so far"
            : "Nothing needs you"}
      </h2>
      <ul className="border-t border-line">
        {sheet.reasons.map((reason) => {
          const chosen = reason.cells.length === marked.size && reason.cells.every((id) => marked.has(id));
          return (
            <li key={`${reason.verdict}/${reason.headline}`} className="border-b border-line">
              <button
                type="button"
                aria-pressed={chosen}
                onClick={() => {
                  onMark(chosen ? [] : reason.cells);
                  const first = reason.cells[0];
                  if (first !== undefined && !chosen) onGo(first);
                }}
                className={`block w-full border-l-[3px] py-2.5 pl-3 text-left hover:bg-sheet ${
                  chosen ? "border-difference bg-sheet" : "border-transparent"
                }`}
              >
                <span className="block">
                  <b className="font-semibold">{reason.headline}</b>
                  {reason.verdict !== "Fail" && <span className="text-quiet"> · {reason.verdict}</span>}
                </span>
                <span className="mt-1 block text-xs leading-5 text-quiet">
                  {count(reason.cells.length, "cell")}, {reason.where}
                  {worst(reason) && <> · worst: {worst(reason)}</>}
                </span>
              </button>
            </li>
          );
        })}
      </ul>
      {sheet.reasons.length === 0 && !under && (
        <p className="pt-3 text-xs leading-5 text-quiet">
          Every render nulls with its reference, so the sheet is blank.
        </p>
      )}
    </section>
  );
}

/** The figures of the worst cell, without the words that the headline has said already. */
function worst({ worst: whole, headline }: Reason): string {
  const alone = whole.startsWith(`${headline}: `) ? whole.slice(headline.length + 2) : whole;
  return alone === headline ? "" : alone;
}
