import { memo, useState } from "react";
import type { Finding, Sheet } from "../../api/client";
import { count } from "../../ui/numbers";
import { verdictText } from "../../ui/words";
import { partsOf } from "./layout";

interface Props {
  sheet: Sheet;
  across: boolean;
  marked: ReadonlySet<number>;
  onMark: (cells: number[]) => void;
}

/** What is wrong, once for all cells that share it. Choosing a finding marks its cells; Shift adds another's. */
export const Findings = memo(function Findings({ sheet, across, marked, onMark }: Props) {
  const [opened, setOpened] = useState<string>();
  const under = sheet.run.finished < sheet.run.cells && !sheet.run.stopped_by;
  const open = sheet.findings.filter((one) => one.undecided > 0);
  const decided = sheet.findings.filter((one) => one.undecided === 0);
  const list = (findings: Finding[]) => (
    <ul className="border-t border-line">
      {findings.map((finding) => (
        <li key={finding.key} className="border-b border-line">
          <Item
            finding={finding}
            marked={marked}
            opened={opened === finding.key}
            onOpen={() => setOpened(opened === finding.key ? undefined : finding.key)}
            onMark={onMark}
          />
          {opened === finding.key && (
            <Parts sheet={sheet} finding={finding} marked={marked} onMark={onMark} />
          )}
        </li>
      ))}
    </ul>
  );
  return (
    <section aria-label="Findings" className="w-64 shrink-0 overflow-auto px-5 pb-6 xl:w-72">
      <h2 className="pt-1 pb-2 text-quiet">
        {across && open.length > 0
          ? count(open.length, "finding")
          : open.length > 0
            ? `${count(open.length, "finding")} ${open.length === 1 ? "needs" : "need"} review`
            : under
              ? "Nothing needs review so far"
              : across
                ? "No difference"
                : "Nothing needs review"}
      </h2>
      {open.length > 0 && list(open)}
      {open.length === 0 && decided.length === 0 && !under && (
        <p className="text-xs leading-5 text-quiet">
          Every render nulls with {across ? "the other side" : "its reference"}, so the sheet is blank.
        </p>
      )}
      {decided.length > 0 && (
        <>
          <h2 className="pt-5 pb-2 text-quiet">{count(decided.length, "finding")} decided</h2>
          {list(decided)}
        </>
      )}
    </section>
  );
});

interface ItemProps {
  finding: Finding;
  marked: ReadonlySet<number>;
  opened: boolean;
  onOpen: () => void;
  onMark: (cells: number[]) => void;
}

function Item({ finding, marked, opened, onOpen, onMark }: ItemProps) {
  const chosen = finding.cells.every((id) => marked.has(id));
  return (
    <div className={`border-l-[3px] ${chosen ? "border-text bg-sheet" : "border-transparent"}`}>
      <button
        type="button"
        aria-pressed={chosen}
        onClick={(event) => {
          if (event.shiftKey) onMark([...new Set([...marked, ...finding.cells])]);
          else onMark(chosen ? [] : finding.cells);
        }}
        className="block w-full pt-2.5 pl-3 text-left"
      >
        <span className="block">
          <b className="font-semibold">{finding.headline}</b>
          {finding.verdict !== "Fail" && finding.verdict !== "Changed" && (
            <span className="text-quiet"> · {verdictText(finding.verdict)}</span>
          )}
        </span>
        <span className="mt-1 block text-xs leading-5 text-quiet">
          {count(finding.cells.length, "cell")}, {finding.where}
          {finding.worst && <> · worst: {finding.worst}</>}
          {finding.since && <> · since {finding.since}</>}
          {finding.undecided > 0 && finding.undecided < finding.cells.length && (
            <> · {finding.undecided} not decided</>
          )}
        </span>
        {finding.before && <span className="block text-xs leading-5">Before: {finding.before}</span>}
      </button>
      <button
        type="button"
        aria-expanded={opened}
        aria-label={`${opened ? "Close" : "Split up"}: ${finding.headline}`}
        onClick={onOpen}
        className="pb-2 pl-3 text-xs text-quiet underline decoration-line hover:decoration-text"
      >
        {opened ? "Close" : "Split up"}
      </button>
    </div>
  );
}

/** A finding by the values of its factors, so that a part of it can be marked and decided by itself. */
function Parts({ sheet, finding, marked, onMark }: Omit<ItemProps, "opened" | "onOpen"> & { sheet: Sheet }) {
  const factors = partsOf(sheet, finding);
  if (factors.length === 0)
    return <p className="pb-2.5 pl-3 text-xs text-quiet">Its cells do not differ in any factor.</p>;
  return (
    <dl className="grid grid-cols-[3.2rem_1fr] gap-y-1 pb-2.5 pl-3 text-xs">
      {factors.map(({ factor, parts }) => (
        <div key={factor} className="contents">
          <dt className="py-0.5 text-quiet">{factor}</dt>
          <dd>
            {parts.map(([value, cells]) => {
              const chosen = cells.length === marked.size && cells.every((id) => marked.has(id));
              return (
                <button
                  key={value}
                  type="button"
                  aria-pressed={chosen}
                  onClick={() => onMark(chosen ? [] : cells)}
                  className={`block w-full py-0.5 text-left hover:underline ${chosen ? "font-semibold" : ""}`}
                >
                  {value} <span className="text-quiet">{cells.length}</span>
                </button>
              );
            })}
          </dd>
        </div>
      ))}
    </dl>
  );
}
