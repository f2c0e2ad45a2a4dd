import { type KeyboardEvent, useEffect, useRef } from "react";
import uPlot from "uplot";
import { number } from "../../ui/numbers";
import { axisLook, frequencyAxis, type Size } from "../../ui/PlotBox";
import { keepDrawn } from "../../ui/redraw";
import { REFERENCE_WIDTH, WIDTH } from "./strokes";

/** Told of the line under the cursor, and of the place on the axis. */
export type OnSpot = (line: number | undefined, place: number | undefined) => void;

/** A line as it is drawn; without values it keeps its place among the others. */
export interface Stroke {
  number: number;
  x: number[];
  y: (number | null)[];
  low?: number[] | null;
  kind: "reference" | "plain" | "law";
  dash: number[];
  darkness: number;
}

export interface PlotLook {
  xUnit: string;
  steps: boolean;
  x: [number, number];
  y: [number, number];
  /** Whether the axes have figures. */
  axes: { x: boolean; y: boolean };
  /** Charts of one picture move together. */
  linked: string;
  /** Whether there is room for a few figures only. */
  small?: boolean;
}

interface Props {
  strokes: Stroke[];
  look: PlotLook;
  label: string;
  className: string;
  /** Which line is at the front; the others are fainter. */
  near: number | undefined;
  onSpot: OnSpot;
  /** A stretch that was dragged over, in the unit of the axis; without it, it zooms. */
  onStretch?: OnStretch | undefined;
}

type OnStretch = (from: number, to: number) => void;
type Told = Pick<Props, "onSpot" | "onStretch">;

const NEAR_PIXELS = 100;
const FAINT = 0.25;
const STEPS = 200; // of the axis, that the arrow keys take

/** Lines over each other: the one that is nearest to the cursor comes to the front. */
export function LinesPlot({ strokes, look, label, className, near, onSpot, onStretch }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot>(undefined);
  const tell = useRef<Told>({ onSpot, onStretch });
  tell.current = { onSpot, onStretch };
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const draw = () => {
      plot.current?.destroy();
      const size = { width: element.clientWidth, height: element.clientHeight };
      plot.current = new uPlot(optionsOf(size, strokes, look, tell), dataOf(strokes, look.x), element);
    };
    const end = keepDrawn(element, draw);
    return () => {
      end();
      plot.current?.destroy();
      plot.current = undefined;
    };
  }, [strokes, look]);
  useEffect(() => {
    const at = plot.current;
    if (!at) return;
    const place = strokes.findIndex((one) => one.number === near);
    for (let i = 1; i < at.series.length; i++) {
      const series = at.series[i];
      if (series) series.alpha = place < 0 || ownerOf(strokes, i) === place ? 1 : FAINT;
    }
    at.redraw(false);
  }, [near, strokes]);
  const onKeyDown = (event: KeyboardEvent) => {
    const at = plot.current;
    const { min, max } = at?.scales.x ?? {};
    if (!at || min == null || max == null) return;
    const drawn = strokes.filter((one) => one.x.length > 0 && one.kind !== "law");
    const own = drawn.findIndex((one) => one.number === near);
    const walk = (by: number) => {
      const left = at.cursor.left ?? -1;
      const step = at.over.clientWidth / STEPS;
      const to = left < 0 ? at.over.clientWidth / 2 : left + by * step * (event.shiftKey ? 10 : 1);
      at.setCursor({
        left: Math.min(at.over.clientWidth - 1, Math.max(0, to)),
        top: at.over.clientHeight / 2,
      });
      onSpot(near ?? drawn[0]?.number, at.posToVal(at.cursor.left ?? 0, "x"));
    };
    const turn = (by: number) => {
      const next = drawn[(own + by + drawn.length) % drawn.length];
      const left = at.cursor.left ?? -1;
      onSpot(next?.number, at.posToVal(left < 0 ? at.over.clientWidth / 2 : left, "x"));
    };
    const acts: Record<string, () => void> = {
      ArrowRight: () => walk(1),
      ArrowLeft: () => walk(-1),
      ArrowDown: () => turn(1),
      ArrowUp: () => turn(own < 0 ? 0 : -1),
    };
    const act = acts[event.key];
    if (!act) return;
    event.preventDefault();
    event.stopPropagation();
    act();
  };
  return (
    // biome-ignore lint/a11y/useSemanticElements: a chart that is walked by keys, not a set of fields
    <div
      ref={box}
      role="group"
      aria-roledescription="chart"
      aria-label={label}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: its cursor is moved by keys
      tabIndex={0}
      onKeyDown={onKeyDown}
      onMouseLeave={() => onSpot(undefined, undefined)}
      className={`min-w-0 cursor-crosshair ${className}`}
    />
  );
}

/** A waveform is drawn as two series with what lies between them filled. */
const seriesIn = (stroke: Stroke) => (stroke.low ? 2 : 1);

/** The stroke that a series of the chart belongs to. */
function ownerOf(strokes: Stroke[], series: number): number {
  let before = 1;
  for (const [i, stroke] of strokes.entries()) {
    before += seriesIn(stroke);
    if (series < before) return i;
  }
  return -1;
}

/** All lines on one axis. The last one is never seen: it has the ends of the axis, which a chart takes from its data. */
function dataOf(strokes: Stroke[], ends: [number, number]): uPlot.AlignedData {
  const tables = strokes.map((one) => {
    if (one.x.length === 0) return [[ends[0]], [null]];
    return one.low ? [one.x, one.y, one.low] : [one.x, one.y];
  });
  return uPlot.join([...tables, [ends, [null, null]]] as uPlot.AlignedData[]);
}

function optionsOf(size: Size, strokes: Stroke[], look: PlotLook, tell: { current: Told }): uPlot.Options {
  const css = getComputedStyle(document.documentElement);
  const colour = (one: Stroke) => css.getPropertyValue(`--${INKS[one.kind]}`).trim();
  const byFrequency = look.xUnit === "Hz";
  const bands: uPlot.Band[] = [];
  const series: uPlot.Series[] = [{}];
  for (const one of strokes) {
    const stroke = `${colour(one)}${alphaOf(one.darkness)}`;
    const shared = {
      stroke,
      width: one.kind === "reference" ? REFERENCE_WIDTH : one.low ? 0.75 : WIDTH,
      dash: one.low ? [] : one.dash,
      points: { show: look.steps && one.kind !== "law", size: 5, stroke, fill: stroke },
    };
    series.push(shared);
    if (one.low) {
      series.push(shared);
      bands.push({ series: [series.length - 2, series.length - 1], fill: stroke });
    }
  }
  series.push({ points: { show: false } });
  return {
    ...size,
    legend: { show: false },
    padding: [6, 10, 0, look.axes.y ? 0 : 6],
    scales: {
      x: byFrequency
        ? { distr: 3, time: false, range: zoomed(look.x) }
        : { time: false, range: zoomed(look.x) },
      y: { range: () => look.y },
    },
    axes: [
      {
        ...(byFrequency
          ? { ...frequencyAxis(look.x[1], look.x[0]), ...(look.small ? { splits: () => DECADES } : {}) }
          : {
              ...axisLook(),
              grid: { show: false },
              values: (_, at) => at.map((one) => number(one, digits(at))),
            }),
        ...(look.axes.x ? { size: 26 } : { size: 0, values: () => [] }),
      },
      {
        ...axisLook(),
        space: 28,
        ...(look.axes.y
          ? { size: 48, values: (_, at) => at.map((one) => number(one, digits(at))) }
          : { size: 0, values: () => [] }),
      },
    ],
    series,
    bands,
    cursor: {
      points: { show: false },
      drag: { x: true, y: false, setScale: tell.current.onStretch === undefined },
      sync: { key: look.linked, setSeries: false, scales: ["x", null] },
    },
    hooks: {
      setCursor: [(at) => hover(at, strokes, tell)],
      setSelect: [
        (at) => {
          if (!tell.current.onStretch || at.select.width < 4) return;
          const ends = [at.select.left, at.select.left + at.select.width].map((left) =>
            at.posToVal(left, "x"),
          );
          tell.current.onStretch(ends[0] ?? 0, ends[1] ?? 0);
          at.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
        },
      ],
    },
  };
}

const DECADES = [100, 1000, 10_000];

const INKS = { reference: "reference", plain: "render", law: "quiet" } as const;

const alphaOf = (darkness: number) =>
  Math.round(255 * darkness)
    .toString(16)
    .padStart(2, "0");

/** The whole axis, until somebody has zoomed in; a double click leads back. */
const zoomed =
  (whole: [number, number]): uPlot.Range.Function =>
  (_, min, max) =>
    min == null || max == null ? whole : [Math.max(min, whole[0]), Math.min(max, whole[1])];

/** Tells which line is nearest to the cursor of this very chart; those that follow it tell nothing. */
function hover(at: uPlot, strokes: Stroke[], tell: { current: Told }) {
  const { left, top, event } = at.cursor;
  if (left == null || left < 0 || top == null || !event || !at.over.contains(event.target as Node)) return;
  const place = at.posToVal(left, "x");
  let [best, least] = [undefined as number | undefined, NEAR_PIXELS];
  for (const one of strokes) {
    if (one.kind === "law" || one.x.length === 0) continue;
    if (strokes.length === 1 || one.low) {
      best = one.number;
      break;
    }
    const y = valueAt(one, place);
    const far = y === undefined ? Number.POSITIVE_INFINITY : Math.abs(at.valToPos(y, "y") - top);
    if (far < least) [best, least] = [one.number, far];
  }
  tell.current.onSpot(best, place);
}

/** The value of a line at a place, between its points; undefined beyond its ends. */
function valueAt({ x, y }: Stroke, place: number): number | undefined {
  const first = x[0];
  const last = x.at(-1);
  if (first === undefined || last === undefined || place < first || place > last) return undefined;
  let [low, high] = [0, x.length - 1];
  while (high - low > 1) {
    const middle = (low + high) >> 1;
    if ((x[middle] ?? 0) <= place) low = middle;
    else high = middle;
  }
  const [a, b] = [x[low] ?? 0, x[high] ?? 0];
  const share = b > a ? (place - a) / (b - a) : 0;
  const [before, after] = [y[low], y[high]];
  return before == null || after == null ? undefined : before * (1 - share) + after * share;
}

/** As many digits as tell one line of the grid from the next. */
function digits(at: number[]): number {
  const [a, b] = at;
  if (a === undefined || b === undefined) return 0;
  return Math.max(0, Math.min(4, Math.ceil(-Math.log10(Math.abs(b - a)) - 1e-9)));
}
