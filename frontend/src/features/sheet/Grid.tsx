import { useVirtualizer } from "@tanstack/react-virtual";
import { memo, type RefObject, useEffect } from "react";
import type { Cell, Measure } from "../../api/client";
import { number } from "../../ui/numbers";
import { reasonText, verdictText } from "../../ui/words";
import { Ink } from "./Ink";
import type { Column, Layout, Row } from "./layout";

interface Props {
  layout: Layout;
  box: RefObject<HTMLDivElement | null>;
  chosen: number | undefined;
  marked: ReadonlySet<number>;
  figures: Measure | undefined;
  tick: number;
  onChoose: (id: number) => void;
  onOpen: (id: number) => void;
  onFold: (key: string) => void;
}

const ROW_PX = 34;
const HEAD_PX = 30;
const FRAME_REM = 15.5; // the names of the cases, and the totals
const WIDEST_REM = 14; // a single column that filled a screen would be a bar, not a cell
const NONE: ReadonlySet<number> = new Set();

/** Cases down, conditions across; ink stands only where there is a difference. Rows out of sight are not drawn. */
export function Grid(props: Props) {
  const { layout, box, chosen, marked } = props;
  const { columns, rows } = layout;
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (i) => ROW_PX + (rows[i]?.first ? HEAD_PX : 0),
    getItemKey: (i) => rows[i]?.key ?? i,
    overscan: 3,
  });
  // A size is by place; what stands there changes with folds and filters.
  // biome-ignore lint/correctness/useExhaustiveDependencies: measured anew for every layout
  useEffect(() => virtual.measure(), [layout]);
  const place = rows.findIndex((row) => row.slots.some((slot) => slot?.cell.id === chosen));
  // Walking by keys moves the focus along, so that a screen reader says where it is; a row that is out of sight must
  // be drawn first.
  useEffect(() => {
    const show = () => {
      const cell = box.current?.querySelector<HTMLElement>(`[data-cell="${chosen}"]`);
      cell?.focus({ preventScroll: true });
      cell?.scrollIntoView({ block: "nearest", inline: "nearest" });
      return cell !== null && cell !== undefined;
    };
    if (place < 0 || show()) return;
    virtual.scrollToIndex(place, { align: "center" });
    const frame = requestAnimationFrame(() => requestAnimationFrame(show));
    return () => cancelAnimationFrame(frame);
  }, [chosen, place, virtual, box]);
  const least = props.figures ? 3.4 : 1.9;
  const template = `11rem repeat(${columns.length}, minmax(${least}rem, 1fr)) 4.5rem`;
  // Each row is told of what is its own alone: a step by key then draws two rows anew, and not all that are in sight.
  const reached = place >= 0 ? chosen : rows[0]?.slots.find((slot) => slot)?.cell.id;
  return (
    <div
      role="grid"
      aria-label="Cases by conditions"
      aria-rowcount={rows.length + 2}
      aria-colcount={columns.length + 2}
      className="w-full"
      style={{
        minWidth: `${FRAME_REM + columns.length * least}rem`,
        maxWidth: `${FRAME_REM + columns.length * WIDEST_REM}rem`,
      }}
    >
      <Header columns={columns} template={template} onFold={props.onFold} />
      <div role="presentation" className="relative" style={{ height: virtual.getTotalSize() }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index];
          if (!row) return null;
          const ids = row.slots.map((slot) => slot?.cell.id);
          return (
            <div
              key={item.key}
              role="presentation"
              className="absolute inset-x-0 top-0 [contain:layout_style]"
              style={{ transform: `translateY(${item.start}px)` }}
            >
              <GridRow
                row={row}
                index={item.index}
                columns={columns}
                template={template}
                chosen={ids.includes(chosen) ? chosen : undefined}
                tabbable={ids.includes(reached) ? reached : undefined}
                marked={ids.some((id) => id !== undefined && marked.has(id)) ? marked : NONE}
                figures={props.figures}
                tick={props.tick}
                onChoose={props.onChoose}
                onOpen={props.onOpen}
                onFold={props.onFold}
              />
            </div>
          );
        })}
      </div>
      <Totals layout={layout} template={template} />
    </div>
  );
}

const Header = memo(function Header({
  columns,
  template,
  onFold,
}: {
  columns: Column[];
  template: string;
  onFold: (key: string) => void;
}) {
  const span = (i: number, key: "first" | "firstOfSecond") => {
    const next = columns.findIndex((column, j) => j > i && column[key]);
    return (next < 0 ? columns.length : next) - i;
  };
  return (
    <div
      role="row"
      aria-rowindex={1}
      tabIndex={-1}
      className="sticky top-0 z-20 grid bg-ground pb-1"
      style={{ gridTemplateColumns: template }}
    >
      <span
        role="columnheader"
        tabIndex={-1}
        className="sticky left-0 row-span-3 bg-ground"
        aria-label="Case"
      />
      {columns.map((column, i) =>
        column.first ? (
          <span
            key={column.key}
            role="columnheader"
            tabIndex={-1}
            className="row-start-1 truncate border-l border-line pl-1.5"
            style={{ gridColumn: `${i + 2} / span ${span(i, "first")}` }}
          >
            <Fold
              folded={column.folded}
              name={column.group}
              ending={column.ending}
              onFold={() => onFold(`column ${column.group}`)}
            />
          </span>
        ) : null,
      )}
      {columns.map((column, i) =>
        column.firstOfSecond ? (
          <span
            key={column.key}
            className={`row-start-2 truncate pl-1.5 text-xs text-quiet ${column.first ? "border-l border-line" : ""}`}
            style={{ gridColumn: `${i + 2} / span ${span(i, "firstOfSecond")}` }}
          >
            {column.second}
          </span>
        ) : null,
      )}
      {columns.map((column, i) => (
        <span
          key={column.key}
          role="columnheader"
          tabIndex={-1}
          aria-label={column.label}
          className={`row-start-3 pt-1 text-center text-xs text-quiet ${column.first ? "border-l border-line" : ""}`}
          style={{ gridColumn: i + 2 }}
        >
          {column.third}
          {column.fourth && <span className="block">{column.fourth}</span>}
        </span>
      ))}
      <span
        className="row-start-3 pt-1 text-right text-xs text-quiet"
        style={{ gridColumn: columns.length + 2 }}
      >
        need review
      </span>
    </div>
  );
});

function Fold(props: { folded: boolean; name: string; ending?: string; onFold: () => void }) {
  const { folded, name, ending = "", onFold } = props;
  return (
    <button
      type="button"
      aria-expanded={!folded}
      aria-label={name}
      title={`${folded ? "Unfold" : "Fold"} ${name}`}
      onClick={onFold}
      className="block max-w-full truncate text-left font-semibold hover:underline"
    >
      {ending ? (
        <>
          <span className="block truncate">{name.slice(0, -ending.length - 1)}</span>
          <span className="block truncate text-xs">{ending}</span>
        </>
      ) : (
        name
      )}
    </button>
  );
}

interface RowProps extends Omit<Props, "layout" | "box"> {
  row: Row;
  index: number;
  columns: Column[];
  template: string;
  tabbable: number | undefined;
}

const GridRow = memo(function GridRow(props: RowProps) {
  const { row, columns, chosen, tabbable, marked, figures, tick, onChoose, onOpen, onFold } = props;
  return (
    <>
      {row.first && (
        <div role="row" tabIndex={-1} className="flex h-[30px] items-end pb-0.5">
          <span role="rowheader" tabIndex={-1} className="sticky left-0 max-w-96 truncate">
            <Fold folded={row.folded} name={row.group} onFold={() => onFold(`row ${row.group}`)} />
          </span>
        </div>
      )}
      <div
        role="row"
        aria-rowindex={props.index + 2}
        tabIndex={-1}
        className="grid h-[34px]"
        style={{ gridTemplateColumns: props.template }}
      >
        <span
          role="rowheader"
          tabIndex={-1}
          aria-label={row.name}
          className="sticky left-0 z-10 flex items-center truncate bg-ground pl-3"
        >
          {row.label}
        </span>
        {row.slots.map((slot, i) => {
          const column = columns[i];
          if (!slot || !column)
            return (
              <span
                key={column?.key}
                role="gridcell"
                tabIndex={-1}
                className={column?.first ? "border-l border-line" : ""}
              />
            );
          return (
            <CellView
              key={column.key}
              cell={slot.cell}
              more={slot.more}
              label={`${row.name}, ${column.label}`}
              edge={column.first}
              chosen={slot.cell.id === chosen}
              tabbable={slot.cell.id === tabbable}
              marked={marked.has(slot.cell.id)}
              figures={figures}
              tick={tick}
              onChoose={onChoose}
              onOpen={onOpen}
            />
          );
        })}
        <span className={`self-center text-right ${row.troubled ? "font-semibold" : "text-quiet"}`}>
          {row.troubled || ""}
        </span>
      </div>
    </>
  );
});

interface CellProps {
  cell: Cell;
  more: number;
  label: string;
  edge: boolean;
  chosen: boolean;
  tabbable: boolean;
  marked: boolean;
  figures: Measure | undefined;
  tick: number;
  onChoose: (id: number) => void;
  onOpen: (id: number) => void;
}

const CellView = memo(function CellView(props: CellProps) {
  const { cell, more, label, edge, chosen, tabbable, marked, figures, tick, onChoose, onOpen } = props;
  const decided = cell.decision?.holds ? `. ${DECIDED[cell.decision.kind]}` : "";
  const shown = figures && cell.state === "done" ? figure(cell, figures) : "";
  const others = more > 0 ? `. The worst of ${more + 1}` : "";
  const reason = reasonText(cell);
  return (
    <button
      type="button"
      role="gridcell"
      aria-selected={chosen}
      tabIndex={tabbable ? 0 : -1}
      data-cell={cell.id}
      data-verdict={cell.verdict}
      data-state={cell.state}
      aria-label={`${label}: ${verdictText(cell.verdict, cell.state)}${reason && `. ${reason}`}${decided}${others}${shown && `. ${shown}`}${marked ? ". Marked" : ""}`}
      onClick={() => onChoose(cell.id)}
      onDoubleClick={() => onOpen(cell.id)}
      className={`relative h-8 [contain:strict] scroll-mt-24 scroll-mr-24 scroll-mb-10 scroll-ml-44 self-center overflow-hidden bg-sheet outline-offset-0 ${
        edge ? "mr-px ml-[2px]" : "mx-px"
      } ${chosen ? "z-10 outline-2 outline-text" : ""} ${marked ? "inset-ring-2 inset-ring-quiet" : ""}`}
    >
      <Ink cell={cell} tick={tick} />
      {shown && (
        <span
          className={`absolute inset-x-0 text-center text-xs leading-4 ${
            cell.ink > 0.5 && cell.needs_you ? "bottom-0 text-on-ink" : "top-0"
          }`}
        >
          {shown}
        </span>
      )}
      {more > 0 && (
        <span className="absolute bottom-0 left-1 bg-sheet px-0.5 text-[0.65rem] text-quiet">{more + 1}</span>
      )}
      {marked && <span className="absolute top-0 right-0 size-2 bg-text" />}
    </button>
  );
});

const DECIDED = { accepted: "Accepted", fault: "A fault is recorded", waived: "Waived" };

function figure(cell: Cell, measure: Measure): string {
  if (cell.unfit) return "";
  if (measure.key === "residual_rms") {
    if (cell.verdict === "Waiting" || cell.verdict === "No reading" || cell.identical) return "";
    return cell.value === null ? "0" : number(cell.value, 1);
  }
  return cell.value === null ? "" : number(cell.value, Math.min(2, measure.decimals));
}

const Totals = memo(function Totals({ layout, template }: { layout: Layout; template: string }) {
  const totals = layout.columns.map(
    (_, i) => layout.rows.filter((row) => row.slots[i]?.cell.needs_you).length,
  );
  return (
    <div
      role="row"
      aria-rowindex={layout.rows.length + 2}
      tabIndex={-1}
      className="sticky bottom-0 z-10 grid border-t border-line bg-ground pt-1"
      style={{ gridTemplateColumns: template }}
    >
      <span role="rowheader" tabIndex={-1} className="sticky left-0 bg-ground text-xs text-quiet">
        need review
      </span>
      {totals.map((total, i) => (
        <span
          key={layout.columns[i]?.key}
          role="gridcell"
          tabIndex={-1}
          className={`text-center ${total ? "font-semibold" : ""}`}
        >
          {total || ""}
        </span>
      ))}
    </div>
  );
});
