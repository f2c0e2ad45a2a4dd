import type uPlot from "uplot";
import type { Curve, Pair } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { axisLook, evenFrequencyAxis } from "../../../ui/PlotBox";
import { inkColour } from "./draw";
import { bare, empty, Pen, type Point } from "./pen";
import type { ReadableChart } from "./ReadPlot";

/** A line of the spectrum that arithmetic expects of a tone. */
export interface Line {
  order: number;
  frequency: number;
  level: number;
  kind: "harmonic" | "alias";
}

export interface ToneLines {
  fundamental: number;
  render: Line[];
  reference: Line[];
  path: Curve;
  limit: number | null;
  /** What is said of the aliases where none stands out. */
  why: string | null;
}

type Side = Curve["side"];

export function curveOf(curves: Curve[], name: string, side: Side): Curve | undefined {
  return curves.find((curve) => curve.name === name && curve.side === side);
}

/** What there is to draw of a steady tone; null where none was measured. */
export function toneLines(pair: Pair): ToneLines | null {
  const path = curveOf(pair.curves, "fold_path", "render");
  const fundamental = curveOf(pair.curves, "fundamental", "render")?.x[0];
  if (!path || fundamental === undefined) return null;
  const worst = pair.readings.find((one) => one.measure === "alias_worst_level" && one.channel === "all");
  return {
    fundamental,
    render: linesOf(pair.curves, "render"),
    reference: linesOf(pair.curves, "reference"),
    path,
    limit: worst?.limit?.at_most ?? null,
    why: worst?.why ?? null,
  };
}

function linesOf(curves: Curve[], side: Side): Line[] {
  const lines = (kind: Line["kind"], levels: string, orders: number[]): Line[] => {
    const level = curveOf(curves, levels, side);
    return (level?.x ?? []).map((frequency, i) => ({
      order: orders[i] ?? 0,
      frequency,
      level: level?.y[i] ?? 0,
      kind,
    }));
  };
  return [
    ...lines("harmonic", "fundamental", [1]),
    ...lines("harmonic", "harmonics", curveOf(curves, "harmonic_orders", side)?.x ?? []),
    ...lines("alias", "aliases", curveOf(curves, "alias_orders", side)?.x ?? []),
  ];
}

const DEEPEST = -150;
const SHALLOWEST = -120;

/** Stems of harmonics and aliases over a linear axis of frequency; the chart of the path below shares it. */
export function stemsChart(tone: ToneLines, rate: number): ReadableChart {
  const levels = [...tone.render, ...tone.reference].map((line) => line.level);
  const high = Math.max(0, ...levels.map((level) => level + 6));
  const low = Math.max(
    DEEPEST,
    Math.min(SHALLOWEST, 30 * Math.floor((Math.min(...levels, tone.limit ?? 0) - 10) / 30)),
  );
  const splits = [-30, -60, -90, -120].filter((level) => level > low);
  return {
    ...readable(tone),
    data: empty(rate),
    options: (size) => ({
      ...bare(size),
      padding: [16, 14, 0, 0],
      scales: { x: { time: false, range: [0, rate / 2] }, y: { range: [low, high] } },
      axes: [{ show: false }, { ...axisLook(), splits: () => splits, values: decibels, size: 44 }],
      hooks: { draw: [(plot) => paintStems(plot, tone, low)] },
    }),
  };
}

/** Where each order lands: down the chart the orders go up, and the line turns at half the rate and at zero. */
export function pathChart(tone: ToneLines, rate: number): ReadableChart {
  const orders = Math.max(...tone.path.x);
  const half = rate / 2;
  return {
    ...readable(tone),
    data: empty(rate),
    options: (size) => ({
      ...bare(size),
      padding: [16, 14, 0, 0],
      scales: { x: { time: false, range: [0, half] }, y: { range: [0, orders + 0.5], dir: -1 } },
      axes: [
        evenFrequencyAxis(half, 28),
        { ...axisLook(), grid: { show: false }, values: (_, at) => at.map(() => ""), size: 44 },
      ],
      hooks: { draw: [(plot) => paintPath(plot, tone)] },
    }),
  };
}

/** Each line of each side, by its order. */
const readable = (tone: ToneLines): Pick<ReadableChart, "unit" | "linked" | "lines" | "points"> => ({
  unit: "Hz",
  linked: "pair, even Hz",
  lines: [],
  points: (["reference", "render"] as const).flatMap((side) =>
    tone[side].map((line) => ({
      x: line.frequency,
      text: `${side}, ${line.kind} of order ${line.order}`,
      value: line.level,
      unit: "dBFS",
    })),
  ),
});

const decibels = (_: uPlot, at: number[]) => at.map((level) => number(level, 0));

function paintStems(plot: uPlot, tone: ToneLines, low: number) {
  const pen = new Pen(plot);
  for (const line of tone.render) {
    const at = pen.place(line.frequency, line.level);
    pen.stroke(inkOf(line), 1.5, [at, pen.place(line.frequency, low)]);
    mark(pen, line, at);
  }
  for (const line of tone.reference) pen.tick(pen.place(line.frequency, line.level));
  label(pen, tone, (line) => pen.place(line.frequency, line.level));
  if (tone.limit !== null) pen.limit(tone.limit, `limit ${number(tone.limit, 0)} dBFS`);
}

function paintPath(plot: uPlot, tone: ToneLines) {
  const pen = new Pen(plot);
  const turns = tone.path.x.map((order, i) => pen.place(tone.path.y[i] ?? 0, order));
  pen.stroke(pen.quiet, 1, turns);
  for (const line of tone.render) mark(pen, line, pen.place(line.frequency, line.order));
  label(pen, tone, (line) => pen.place(line.frequency, line.order), ABOVE);
}

const inkOf = (line: Line) => inkColour(line.kind === "harmonic" ? "render" : "difference");

/** A square for a harmonic, a disc for an alias: told apart without colour. */
function mark(pen: Pen, line: Line, at: Point) {
  if (line.kind === "harmonic") pen.square(inkOf(line), at);
  else pen.disc(inkOf(line), at, 3.5, true);
}

/** Pixels by which orders stand over the path, which would run through them. */
const ABOVE = 7;

function label(pen: Pen, tone: ToneLines, placed: (line: Line) => Point, above = 0) {
  const strongest = [...tone.render].sort((a, b) => b.level - a.level);
  pen.labels(
    strongest.map((line) => ({ at: placed(line), text: String(line.order) })),
    above,
  );
}
