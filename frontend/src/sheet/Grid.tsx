import { memo, useEffect, useRef } from "react";
import type { Cell } from "../api/client";
import { kilohertz, number } from "../parts/numbers";
import type { Column, Layout, Row } from "./layout";
import { needsYou } from "./layout";

interface Props {
  layout: Layout;
  chosen: number | undefined;
  marked: ReadonlySet<number>;
  figures: boolean;
  tick: number;
  onChoose: (id: number) => void;
  onOpen: (id: number) => void;
}

/** Cases down, conditions across; ink stands only where there is a difference. */
export function Grid({ layout, chosen, marked, figures, tick, onChoose, onOpen }: Props) {
  const { columns, rows } = layout;
  const width = figures ? "minmax(3.4rem, 4.6rem)" : "minmax(2.2rem, 4.6rem)";
  const anywhere = rows.some((row) => row.cells.some((cell) => cell?.id === chosen));
  const first = rows[0]?.cells[0]?.id;
  return (
    <div
      role="grid"
      aria-label="Cases by conditions"
      className="grid w-full"
      style={{ gridTemplateColumns: `11rem repeat(${columns.length}, ${width}) 4.5rem` }}
    >
      <Header columns={columns} />
      {rows.map((row) => (
        <GridRow
          key={row.id}
          row={row}
          columns={columns}
          chosen={chosen}
          tabbable={anywhere ? chosen : first}
          marked={marked}
          figures={figures}
          tick={tick}
          onChoose={onChoose}
          onOpen={onOpen}
        />
      ))}
      <Totals layout={layout} />
    </div>
  );
}

function Header({ columns }: { columns: Column[] }) {
  const span = (i: number, key: "firstOfHost" | "firstOfMode") => {
    const next = columns.findIndex((column, j) => j > i && column[key]);
    return (next < 0 ? columns.length : next) - i;
  };
  return (
    <div
      role="row"
      tabIndex={-1}
      className="sticky top-0 z-10 col-span-full grid grid-cols-subgrid bg-ground pb-1"
    >
      <span role="columnheader" tabIndex={-1} className="row-span-3" aria-label="Case" />
      {columns.map(({ condition, firstOfHost }, i) =>
        firstOfHost ? (
          <span
            key={condition.id}
            className="row-start-1 truncate border-l border-line pl-1.5 font-semibold"
            style={{ gridColumn: `${i + 2} / span ${span(i, "firstOfHost")}` }}
          >
            {condition.host} {condition.host_version}
          </span>
        ) : null,
      )}
      {columns.map(({ condition, firstOfMode, firstOfHost }, i) =>
        firstOfMode ? (
          <span
            key={condition.id}
            className={`row-start-2 truncate pl-1.5 text-xs text-quiet ${firstOfHost ? "border-l border-line" : ""}`}
            style={{ gridColumn: `${i + 2} / span ${span(i, "firstOfMode")}` }}
          >
            {condition.mode}
          </span>
        ) : null,
      )}
      {columns.map(({ condition, firstOfHost }, i) => (
        <span
          key={condition.id}
          role="columnheader"
          tabIndex={-1}
          aria-label={`${condition.host} ${condition.host_version}, ${condition.mode}, ${kilohertz(condition.rate)} kHz`}
          className={`row-start-3 pt-1 text-center text-xs text-quiet ${firstOfHost ? "border-l border-line" : ""}`}
          style={{ gridColumn: i + 2 }}
        >
          {kilohertz(condition.rate)}
        </span>
      ))}
      <span
        className="row-start-3 pt-1 text-right text-xs text-quiet"
        style={{ gridColumn: columns.length + 2 }}
      >
        need you
      </span>
    </div>
  );
}

interface RowProps extends Omit<Props, "layout"> {
  row: Row;
  columns: Column[];
  tabbable: number | undefined;
}

function GridRow({ row, columns, chosen, tabbable, marked, figures, tick, onChoose, onOpen }: RowProps) {
  const troubled = row.cells.filter(needsYou).length;
  return (
    <div role="row" tabIndex={-1} className="col-span-full grid grid-cols-subgrid">
      {row.firstOfSignal && <span className="col-span-full pt-2.5 pb-0.5 font-semibold">{row.signal}</span>}
      <span
        role="rowheader"
        tabIndex={-1}
        aria-label={`${row.signal}, ${row.setting}`}
        className="self-center truncate pl-3"
      >
        {row.setting}
      </span>
      {row.cells.map((cell, i) => {
        const column = columns[i];
        if (!cell || !column) return <span key={column?.condition.id} role="gridcell" tabIndex={-1} />;
        return (
          <CellView
            key={cell.id}
            cell={cell}
            label={`${row.signal}, ${row.setting}, ${column.condition.host}, ${column.condition.mode}, ${kilohertz(column.condition.rate)} kHz`}
            edge={column.firstOfHost}
            chosen={cell.id === chosen}
            tabbable={cell.id === tabbable}
            marked={marked.has(cell.id)}
            figures={figures}
            tick={tick}
            onChoose={onChoose}
            onOpen={onOpen}
          />
        );
      })}
      <span className={`self-center text-right ${troubled ? "font-semibold" : "text-quiet"}`}>
        {troubled || ""}
      </span>
    </div>
  );
}

interface CellProps {
  cell: Cell;
  label: string;
  edge: boolean;
  chosen: boolean;
  tabbable: boolean;
  marked: boolean;
  figures: boolean;
  tick: number;
  onChoose: (id: number) => void;
  onOpen: (id: number) => void;
}

const CellView = memo(function CellView(props: CellProps) {
  const { cell, label, edge, chosen, tabbable, marked, figures, tick, onChoose, onOpen } = props;
  const button = useRef<HTMLButtonElement>(null);
  useEffect(() => {
    // Walking by keys moves the focus along, so that a screen reader says where it is.
    if (chosen) button.current?.focus({ preventScroll: false });
  }, [chosen]);
  return (
    <div
      role="gridcell"
      tabIndex={-1}
      aria-selected={chosen}
      className={`p-px ${edge ? "border-l border-line" : ""}`}
    >
      <button
        ref={button}
        type="button"
        tabIndex={tabbable ? 0 : -1}
        data-cell={cell.id}
        data-verdict={cell.verdict}
        data-state={cell.state}
        aria-label={`${label}: ${cell.verdict}. ${cell.why}${marked ? ". Marked" : ""}`}
        onClick={() => onChoose(cell.id)}
        onDoubleClick={() => onOpen(cell.id)}
        className={`relative block h-8 w-full overflow-hidden bg-sheet outline-offset-0 ${
          chosen ? "z-10 outline-2 outline-text" : ""
        } ${marked ? "inset-ring-2 inset-ring-quiet" : ""}`}
      >
        <Ink cell={cell} tick={tick} />
        {figures && cell.state === "done" && (
          <span
            className={`absolute inset-x-0 text-center text-xs leading-4 ${cell.ink > 0.5 ? "bottom-0 text-on-ink" : "top-0"}`}
          >
            {figure(cell)}
          </span>
        )}
        {marked && <span className="absolute top-0 right-0 size-2 bg-text" />}
      </button>
    </div>
  );
});

/** The more difference, the more ink; a small tick stands at the limit. */
function Ink({ cell, tick }: { cell: Cell; tick: number }) {
  if (cell.state !== "done" && cell.state !== "failed")
    return (
      <span
        className={`absolute top-1/2 left-1/2 h-px -translate-x-1/2 ${cell.state === "waiting" ? "w-1 bg-line" : "w-4 bg-quiet"}`}
      />
    );
  if (cell.verdict === "Waiting")
    return (
      <span className="absolute top-1/2 left-1/2 size-1.5 -translate-1/2 rounded-full border border-quiet" />
    );
  if (cell.verdict === "No reading")
    return (
      <svg viewBox="0 0 10 10" className="absolute inset-0 m-auto size-3 stroke-quiet" aria-hidden="true">
        <path d="M1 1L9 9M9 1L1 9" />
      </svg>
    );
  if (cell.ink === 0) return null;
  return (
    <>
      <span
        className={`arrive absolute inset-x-0 bottom-0 ${cell.verdict === "Fail" ? "bg-difference" : "hatch-changed"}`}
        style={{ height: `${Math.max(6, cell.ink * 100)}%` }}
      />
      <span
        className={`absolute left-0 h-px w-1.5 ${cell.ink > tick ? "bg-on-ink" : "bg-quiet"}`}
        style={{ bottom: `${tick * 100}%` }}
      />
    </>
  );
}

function figure(cell: Cell): string {
  if (cell.unfit || cell.verdict === "Waiting" || cell.verdict === "No reading" || cell.identical) return "";
  return cell.residual === null ? "0" : number(cell.residual, 1);
}

function Totals({ layout }: { layout: Layout }) {
  const totals = layout.columns.map((_, i) => layout.rows.filter((row) => needsYou(row.cells[i])).length);
  return (
    <div role="row" tabIndex={-1} className="col-span-full grid grid-cols-subgrid pt-2">
      <span role="rowheader" tabIndex={-1} className="text-xs text-quiet">
        need you
      </span>
      {totals.map((total, i) => (
        <span
          key={layout.columns[i]?.condition.id}
          role="gridcell"
          tabIndex={-1}
          className={`text-center ${total ? "font-semibold" : ""}`}
        >
          {total || ""}
        </span>
      ))}
    </div>
  );
}
