import { useMemo } from "react";
import uPlot from "uplot";
import type { Curve } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { axisLook, DASHES, frequencyAxis, type Size } from "../../../ui/PlotBox";
import { inkColour } from "./draw";
import { kindOf } from "./kinds";
import { Pen, token } from "./pen";
import { type ReadableChart, ReadPlot } from "./ReadPlot";

type Mark = Curve["marks"][number];

interface Look {
  title: string;
  about: string;
  shape?: "bars" | "points";
  least?: number;
}

/** What is written beside each curve, and how it is drawn. */
const LOOKS: Record<string, Look> = {
  filter_magnitude: { title: "Filter found", about: "render over reference, dB", least: -60 },
  filter_phase: { title: "Its phase", about: "degrees" },
  output_over_input: { title: "Curve found", about: "render over reference, FS" },
  gain_over_time: { title: "Gain found", about: "over time, dB", shape: "points" },
  residual_bands: { title: "Residual", about: "third octaves, dBFS", shape: "bars", least: -160 },
  alias_by_frequency: { title: "Worst alias", about: "by the tone's frequency, dBFS", least: -160 },
  thd_by_frequency: { title: "Distortion", about: "harmonics re the tone, by its frequency, dB" },
  noise_by_frequency: { title: "Noise floor", about: "by the tone's frequency, dBFS (AES17)" },
  magnitude: { title: "Magnitude", about: "output over input, dB", least: -100 },
  phase: { title: "Phase", about: "latency taken off, degrees" },
  group_delay: { title: "Group delay", about: "beyond the latency, ms" },
  coherence: { title: "Coherence", about: "1 where the output follows from the input" },
  products: {
    title: "Tones and products",
    about: "what two tones make of each other, dBFS",
    shape: "bars",
    least: -150,
  },
  transfer: { title: "Transfer curve", about: "level out over level in, dBFS", shape: "points" },
  transfer_error: { title: "Error", about: "measured less expected, dB", shape: "points" },
  gain: { title: "Gain", about: "over time, dB" },
  latency_by_event: { title: "Delay by event", about: "samples", shape: "points" },
  momentary: { title: "Momentary loudness", about: "400 ms, LUFS", least: -80 },
  short: { title: "Short-term loudness", about: "3 s, LUFS", least: -80 },
};

const COLOURS: Record<Curve["side"], string> = {
  reference: "text-reference",
  render: "text-render",
  difference: "text-difference",
};
const MARKS: Record<Curve["side"], string> = { reference: "—", render: "- -", difference: "···" };

/** Curves under each other, each kind on a chart of its own; those of one axis move together. */
export function CurveStack({ curves, rows, rate }: { curves: Curve[]; rows: string[][]; rate: number }) {
  const there = rows.flatMap((names) => {
    const meant = curves.filter((curve) => names.includes(kindOf(curve.name)) && curve.x.length > 1);
    // What is expected of both sides is the same.
    const own = meant.filter(
      (curve) => !isExpected(curve) || curve === meant.find((other) => isExpected(other)),
    );
    return own.length > 0 ? [{ name: names[0] ?? "", own }] : [];
  });
  return there.map(({ name, own }, i) => (
    <CurvePlot
      key={name}
      name={name}
      curves={own}
      rate={rate}
      large={i === 0}
      last={there[i + 1]?.own[0]?.x_unit !== own[0]?.x_unit}
    />
  ));
}

interface PlotProps {
  name: string;
  curves: Curve[];
  rate: number;
  /** The first: it has most of the height, and says what is drawn how. */
  large: boolean;
  /** The last of its axis, which stands under it. */
  last: boolean;
}

function CurvePlot({ name, curves, rate, large, last }: PlotProps) {
  const look = LOOKS[name] ?? { title: name, about: "" };
  const chart = useMemo(() => draw(name, curves, last), [name, curves, last]);
  const spread = curves.map((curve) => `${curve.side} ${kindOf(curve.name)}`);
  return (
    <div
      className={`grid grid-cols-[7.5rem_1fr] ${large ? "min-h-44 flex-[3]" : last ? "min-h-28 flex-1" : "min-h-21 flex-1"}`}
    >
      <div className="pr-2 text-xs leading-5 text-quiet">
        <h2 className="text-sm leading-4 font-semibold text-text" title={look.about}>
          {look.title}
        </h2>
        <p className={large ? "" : "line-clamp-2 leading-4"}>{look.about}</p>
        {large &&
          curves.map((curve, i) => (
            <p key={spread[i]} className={isExpected(curve) ? "" : COLOURS[curve.side]}>
              {isExpected(curve) ? "···" : MARKS[curve.side]} {labelOf(curves, i)}
            </p>
          ))}
      </div>
      <ReadPlot chart={chart} rate={rate} label={`${look.title}: ${look.about}`} className="min-h-0 flex-1" />
    </div>
  );
}

/** What a law says, and nobody measured. */
const isExpected = (curve: Curve) => kindOf(curve.name) === "transfer_expected";

/** The side of a curve, and what it is where a chart has several of that side. */
function labelOf(curves: Curve[], index: number): string {
  const curve = curves[index];
  if (!curve) return "";
  if (isExpected(curve)) return "expected";
  const several = curves.filter((other) => other.side === curve.side && !isExpected(other)).length > 1;
  if (!several) return curve.side;
  const what = kindOf(curve.name).split("_").at(-1) ?? "";
  return `${curve.side}, ${what}`;
}

function draw(name: string, curves: Curve[], last: boolean): ReadableChart {
  const look = LOOKS[name] ?? { title: name, about: "" };
  const tables: uPlot.AlignedData[] = curves.map((curve) => [
    curve.x,
    curve.y.map((value) => (look.least !== undefined && value < look.least ? null : value)),
  ]);
  const [first] = curves;
  return {
    data: uPlot.join(tables),
    options: (size) => options(size, name, look, curves, last),
    unit: first?.x_unit ?? "",
    linked: first?.x_unit === "Hz" ? "pair, Hz" : first?.x_unit === "s" ? "pair, s" : undefined,
    lines: curves.map((curve, i) => ({
      label: labelOf(curves, i),
      unit: curve.y_unit,
      decimals: curve.y_unit === "" ? 3 : 2,
    })),
  };
}

function options(size: Size, name: string, look: Look, curves: Curve[], last: boolean): uPlot.Options {
  const marks = marksOf(curves);
  const byFrequency = curves[0]?.x_unit === "Hz";
  const top = Math.max(...curves.flatMap((curve) => curve.x)) * 1.05;
  const bottom = Math.max(20, Math.min(...curves.flatMap((curve) => curve.x)) * 0.95);
  const values = curves.flatMap((curve) => curve.y).filter((value) => value >= (look.least ?? -1e9));
  const span = Math.max(...values) - Math.min(...values);
  const margin = Math.max(span * 0.08, smallest(curves[0]?.y_unit));
  const low = look.shape === "bars" ? (look.least ?? 0) : Math.min(...values) - margin;
  return {
    ...size,
    legend: { show: false },
    padding: [8, 8, 0, 0],
    scales: {
      x: byFrequency ? { distr: 3, time: false, range: [bottom, top] } : { time: false },
      y: { range: [low, Math.max(...values) + margin] },
    },
    axes: [
      {
        ...(byFrequency
          ? frequencyAxis(top, bottom)
          : { ...axisLook(), grid: { show: false }, values: (_, at) => at.map(plain) }),
        ...(last ? { size: 28 } : { size: 0, values: () => [] }),
      },
      {
        ...axisLook(),
        size: 44,
        space: 32,
        values: (_, at) => at.map((value) => number(value, digitsOf(at))),
      },
    ],
    series: [{}, ...curves.map((curve) => series(curve, look))],
    hooks: {
      draw: [
        ...(name === "transfer" ? [paintUnity] : []),
        ...(marks.length > 0
          ? [(plot: uPlot) => (look.shape === "bars" ? nameBars(plot, curves) : paintMarks(plot, marks))]
          : []),
      ],
    },
  };
}

/** Where readings were taken: of the render, or else of what there is. */
function marksOf(curves: Curve[]): Mark[] {
  const marked = curves.filter((curve) => curve.marks.length > 0);
  return (marked.find((curve) => curve.side === "render") ?? marked[0])?.marks ?? [];
}

/** Lines upwards at places that readings name, and the lines of a grid where there is no name. */
function paintMarks(plot: uPlot, marks: Mark[]) {
  const pen = new Pen(plot);
  const { min, max } = plot.scales.y ?? {};
  if (min == null || max == null) return;
  for (const { x, text } of marks)
    pen.stroke(pen.quiet, text === "" ? 0.5 : 1, [pen.place(x, min), pen.place(x, max)], [1, 3]);
  const named = marks.filter(({ text }) => text !== "");
  pen.labels(
    named.map(({ x, text }, i) => {
      // One over the other in turn, so that neighbours do not hide each other.
      const [left, bottom] = pen.place(x, min);
      return { at: [left, bottom - (12 + 14 * (i % 3)) * uPlot.pxRatio], text };
    }),
  );
}

/** The name of each line at its top. */
function nameBars(plot: uPlot, curves: Curve[]) {
  const pen = new Pen(plot);
  const top = curves.find((curve) => curve.side === "render") ?? curves[0];
  pen.labels(
    (top?.marks ?? [])
      .map(({ x, text }) => ({ x, y: top?.y[top.x.indexOf(x)] ?? 0, text }))
      .sort((a, b) => b.y - a.y)
      .map(({ x, y, text }) => ({ at: pen.place(x, y), text })),
    8,
  );
}

/** Where what comes out is what goes in. */
function paintUnity(plot: uPlot) {
  const { x, y } = plot.scales;
  const low = Math.max(x?.min ?? 0, y?.min ?? 0);
  const high = Math.min(x?.max ?? 0, y?.max ?? 0);
  if (high <= low) return;
  const pen = new Pen(plot);
  pen.stroke(pen.quiet, 1, [pen.place(low, low), pen.place(high, high)], [1, 3]);
}

/** As many digits as tell one line of the grid from the next. */
function digitsOf(at: number[]): number {
  const [a, b] = at;
  if (a === undefined || b === undefined) return at.every(Number.isInteger) ? 0 : 1;
  return Math.max(0, Math.min(4, Math.ceil(-Math.log10(Math.abs(b - a)) - 1e-9)));
}

/** The least margin worth drawing, so that a flat line is not blown up to noise. */
const smallest = (unit: string | undefined) => (unit === "ms" || unit === "" ? 0.05 : 0.5);

const plain = (value: number) => number(value, Number.isInteger(value) ? 0 : Math.abs(value) < 1 ? 3 : 1);

function series(curve: Curve, look: Look): uPlot.Series {
  const colour = inkColour(curve.side);
  if (isExpected(curve))
    return { stroke: token("--quiet"), width: 1.25, dash: [1, 3], spanGaps: true, points: { show: false } };
  const shared = { stroke: colour, width: curve.side === "reference" ? 1.75 : 1.25, spanGaps: true };
  if (look.shape === "bars") {
    const bars = uPlot.paths.bars?.({ size: [0.5, 10], align: curve.side === "reference" ? -1 : 1 });
    const filled = curve.side === "render" ? {} : { fill: colour };
    const toFloor = { fillTo: () => look.least ?? 0 };
    return { ...shared, ...filled, ...toFloor, ...(bars ? { paths: bars } : {}), points: { show: false } };
  }
  return {
    ...shared,
    dash: DASHES[curve.side],
    points: { show: look.shape === "points", size: 6, stroke: colour },
  };
}
