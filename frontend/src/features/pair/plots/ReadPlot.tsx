import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import type { Chart } from "../../../ui/PlotBox";
import { keepDrawn } from "../../../ui/redraw";
import { distanceText, nextPeak, placeText, type Spot, valuesText } from "./reading";

/** A chart whose lines can be read with a cursor. */
export interface ReadableChart extends Chart {
  unit: string;
  lines: { label: string; unit: string; decimals: number }[];
  /** Charts of one axis move and zoom together. */
  linked?: string | undefined;
  /** What is painted and is no line: read at the nearest place. */
  points?: { x: number; y?: number; text: string; value: number; unit: string }[];
}

interface Props {
  chart: ReadableChart | null;
  label: string;
  rate: number;
  className: string;
}

const DRAGGED = 12; // pixels across which a drag zooms in that direction

/** A chart with a cursor that says values, a mark from which distances are taken, and zoom both ways. */
export function ReadPlot({ chart, label, rate, className }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const [spot, setSpot] = useState<Spot>();
  const [mark, setMark] = useState<Spot>();
  const latest = useRef<Spot>(undefined);
  latest.current = spot;
  useEffect(() => {
    const element = box.current;
    if (!element || !chart) return;
    let kept: Record<string, { min: number; max: number }> = {};
    const draw = () => {
      plot.current?.destroy();
      const size = { width: element.clientWidth, height: element.clientHeight };
      const options = chart.options(size);
      const made = new uPlot(
        {
          ...options,
          cursor: {
            points: { show: false },
            drag: { x: true, y: true, uni: DRAGGED },
            ...(chart.linked ? { sync: { key: chart.linked, setSeries: false, scales: ["x", null] } } : {}),
          },
          hooks: {
            ...options.hooks,
            setCursor: [(at: uPlot) => setSpot(spotAt(at, chart))],
          },
        },
        chart.data,
        element,
      );
      for (const [key, scale] of Object.entries(kept)) made.setScale(key, scale);
      kept = {};
      plot.current = made;
    };
    const redraw = () => {
      for (const [key, scale] of Object.entries(plot.current?.scales ?? {}))
        if (scale.min != null && scale.max != null) kept[key] = { min: scale.min, max: scale.max };
      draw();
    };
    const end = keepDrawn(element, draw, redraw);
    return () => {
      end();
      plot.current?.destroy();
      plot.current = undefined;
    };
  }, [chart]);
  const move = (index: number | undefined) => {
    const at = plot.current;
    const x = index === undefined ? undefined : at?.data[0][index];
    if (!at || x === undefined) return;
    at.setCursor({ left: at.valToPos(x, "x"), top: at.over.clientHeight / 2 });
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const at = plot.current;
    if (!at || !chart) return;
    const index = at.cursor.idx ?? 0;
    const drawn = at.data.slice(1).map((line) => [...line]);
    const walked = drawn.find((line) => line.some((value) => value != null)) ?? [];
    const acts: Record<string, () => void> = {
      ArrowRight: () => move(Math.min(at.data[0].length - 1, index + 1)),
      ArrowLeft: () => move(Math.max(0, index - 1)),
      "]": () => move(nextPeak(walked, index, 1)),
      "[": () => move(nextPeak(walked, index, -1)),
      x: () => setMark(latest.current),
      Backspace: () => setMark(undefined),
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  };
  const unit = chart?.unit ?? "";
  return (
    <div className="flex min-h-0 min-w-0 flex-1 flex-col">
      {/* biome-ignore lint/a11y/useSemanticElements: a chart that is walked by keys, not a set of fields */}
      <div
        ref={box}
        role="group"
        aria-roledescription="chart"
        aria-label={label}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: its cursor is moved by keys
        tabIndex={0}
        onKeyDown={onKeyDown}
        onClick={() => spot && setMark(spot)}
        className={`min-w-0 cursor-crosshair ${className}`}
      />
      <p
        aria-live="polite"
        className="h-5 overflow-hidden pl-11 text-xs leading-5 text-ellipsis whitespace-nowrap text-quiet"
      >
        {spot ? (
          <>
            <b className="font-semibold text-text">{placeText(spot.x, unit, rate)}</b>
            {spot.values.length > 0 && `: ${valuesText(spot)}`}
            {mark && mark.x !== spot.x && ` · from the mark ${distanceText(mark, spot, unit, rate)}`}
          </>
        ) : (
          ""
        )}
      </p>
    </div>
  );
}

function spotAt(plot: uPlot, chart: ReadableChart): Spot | undefined {
  const { left, top, idx } = plot.cursor;
  if (left == null || left < 0) return undefined;
  const x = plot.posToVal(left, "x");
  if (chart.points) {
    const far = (one: { x: number; y?: number }) =>
      Math.hypot(
        plot.valToPos(one.x, "x") - left,
        one.y === undefined ? 0 : plot.valToPos(one.y, "y") - (top ?? 0),
      );
    const nearest = Math.min(...chart.points.map(far));
    const there = chart.points.filter((one) => far(one) === nearest);
    const [first] = there;
    if (!first || nearest > 2 * DRAGGED) return { x, values: [] };
    return {
      x: first.x,
      values: there.map((one) => ({ label: one.text, value: one.value, unit: one.unit, decimals: 1 })),
    };
  }
  if (idx == null) return undefined;
  const values = chart.lines.flatMap((line, i) => {
    const value = plot.data[i + 1]?.[idx];
    return value == null ? [] : [{ ...line, value }];
  });
  return { x: plot.data[0][idx] ?? x, values };
}
