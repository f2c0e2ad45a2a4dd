import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Cell, DecisionKind, Pair, Sheet } from "../../api/client";
import { MOST_LINES } from "../../api/limits.gen";
import { measuresQuery } from "../../api/measures";
import { Button } from "../../ui/controls";
import { kilohertz, limitText, valueText } from "../../ui/numbers";
import { reasonText, verdictText } from "../../ui/words";
import { StandingText } from "../decisions/StandingText";
import { cellQuery } from "../pair/queries";
import { useRenderAgain } from "./queries";

const REST_MS = 150;
const SHOWN = ["residual_rms", "delay", "gain", "sample_peak"];

interface Props {
  sheet: Sheet;
  cell: Cell | undefined;
  marked: ReadonlySet<number>;
  /** What is compared with something other than the references is looked at, and not decided on. */
  decidable: boolean;
  onOpen: () => void;
  onListen: () => void;
  onOverlay: () => void;
  onDecide: (first: DecisionKind) => void;
}

/** What is known of the chosen cell, and what can be done about it. */
export function Slip({ sheet, cell, marked, decidable, onOpen, onListen, onOverlay, onDecide }: Props) {
  const again = useRenderAgain();
  const targets = marked.size > 0 ? [...marked] : cell ? [cell.id] : [];
  const one = sheet.cases.find((row) => row.id === cell?.case_id);
  const condition = sheet.conditions.find((column) => column.id === cell?.condition_id);
  return (
    <section
      aria-label="Chosen cell"
      className="flex h-[5.25rem] shrink-0 items-center gap-6 border-t border-line bg-sheet px-5"
    >
      {cell && one && condition ? (
        <>
          <div className="w-64 shrink-0 xl:w-72">
            <p className="truncate font-semibold">
              {one.signal} · {one.setting}
            </p>
            <p className="truncate text-xs text-quiet">
              {condition.host} {condition.host_version} · {condition.mode}
              {condition.hosting && `, ${condition.hosting}`} · {kilohertz(condition.rate)} kHz · block{" "}
              {condition.block_size}
            </p>
            <p className="truncate text-xs" title={reasonText(cell)}>
              <b className="font-semibold">{verdictText(cell.verdict, cell.state)}.</b> {reasonText(cell)}
              {cell.reused && <span className="text-quiet"> Reused from an earlier run.</span>}
            </p>
          </div>
          {cell.decision && (
            <p className="line-clamp-3 w-52 shrink-0 text-xs leading-5">
              <StandingText standing={cell.decision} />
            </p>
          )}
          <Figures cell={cell} />
        </>
      ) : (
        <p className="text-quiet">
          No cell is chosen. Click one, or press an arrow key; <kbd className="font-sans">.</kbd> goes to the
          first that needs review.
        </p>
      )}
      <div className="ml-auto flex shrink-0 items-center gap-2">
        {again.error && (
          <p role="alert" className="line-clamp-3 max-w-48 text-xs">
            {again.error.message}
          </p>
        )}
        <Button
          needs="work"
          disabled={targets.length === 0 || again.isPending}
          onClick={() => again.mutate(targets)}
        >
          Render again
        </Button>
        <Button hint="↵" onClick={onOpen} disabled={!cell}>
          Open pair
        </Button>
        {marked.size > 1 && (
          <Button hint="O" onClick={onOverlay} disabled={marked.size > MOST_LINES}>
            Overlay
          </Button>
        )}
        <Button hint="J" onClick={onListen} disabled={targets.length === 0}>
          Listen
        </Button>
        {decidable && (
          <>
            <Button hint="D" needs="work" onClick={() => onDecide("fault")} disabled={targets.length === 0}>
              {targets.length > 1 ? `Decide ${targets.length}` : "Decide"}
            </Button>
            <Button
              look="main"
              needs="keep"
              hint="A"
              onClick={() => onDecide("reference")}
              disabled={targets.length === 0}
            >
              {targets.length > 1 ? `Approve ${targets.length}` : "Approve"}
            </Button>
          </>
        )}
      </div>
    </section>
  );
}

function Figures({ cell }: { cell: Cell }) {
  // While keys are held down nothing is asked for: the pair of a cell is large.
  const [rested, setRested] = useState(cell.id);
  useEffect(() => {
    const timer = window.setTimeout(() => setRested(cell.id), REST_MS);
    return () => window.clearTimeout(timer);
  }, [cell.id]);
  const pair = useQuery({
    ...cellQuery(rested, cell.other ?? undefined),
    placeholderData: (before: Pair | undefined) => before,
  });
  const measures = useQuery(measuresQuery);
  const readings = pair.data?.readings ?? [];
  return (
    <dl className="flex h-12 min-w-0 flex-wrap gap-x-7 overflow-hidden">
      {SHOWN.map((key) => {
        const measure = measures.data?.measures.find((one) => one.key === key);
        const reading = readings.find((one) => one.measure === key && one.channel === "all");
        if (!measure || !reading) return null;
        const limit = limitText(reading.limit, measure);
        const broken = reading.judgement === "broken";
        return (
          <div key={key} className="h-12 shrink-0">
            <dt className="text-xs whitespace-nowrap text-quiet">
              {measure.title}
              {limit && `, limit ${limit}`}
            </dt>
            <dd className={`text-lg whitespace-nowrap ${broken ? "font-semibold text-difference" : ""}`}>
              {valueText(reading, measure)}{" "}
              <span className="text-xs font-normal">{reading.value === null ? "" : measure.unit}</span>
            </dd>
          </div>
        );
      })}
    </dl>
  );
}
