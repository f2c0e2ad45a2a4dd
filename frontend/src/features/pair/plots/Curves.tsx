import { useMemo } from "react";
import uPlot from "uplot";
import type { Curve } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { axisLook, type Chart, DASHES, frequencyAxis, PlotBox, type Size } from "../../../ui/PlotBox";
import { inkColour } from "./draw";

interface Kind {
  names: string[];
  title: string;
  about: string;
  shape?: "bars" | "points";
  least?: number;
}

/** Which curves are drawn, in this order; those of one kind share a chart. */
const KINDS: Kind[] = [
  {
    names: ["filter_magnitude"],
    title: "Filter that was found",
    about: "render over reference, dB",
    least: -60,
  },
  { names: ["filter_phase"], title: "Its phase", about: "degrees" },
  { names: ["output_over_input"], title: "Curve that was found", about: "render over reference, FS" },
  { names: ["gain_over_time"], title: "Gain that was found", about: "over time, dB", shape: "points" },
  { names: ["residual_bands"], title: "Residual", about: "third octaves, dBFS", shape: "bars", least: -160 },
  {
    names: ["alias_by_frequency"],
    title: "Worst alias",
    about: "by the tone's frequency, dBFS",
    least: -160,
  },
  { names: ["thd_by_frequency"], title: "Distortion", about: "harmonics re the tone, by its frequency, dB" },
  { names: ["noise_by_frequency"], title: "Noise floor", about: "by the tone's frequency, dBFS (AES17)" },
  { names: ["magnitude"], title: "Magnitude", about: "output over input, dB", least: -100 },
  { names: ["magnitude_uncertainty"], title: "Its uncertainty", about: "of the magnitude at 95 %, dB" },
  { names: ["phase"], title: "Phase", about: "latency taken off, degrees" },
  { names: ["group_delay"], title: "Group delay", about: "beyond the latency, ms" },
  { names: ["coherence"], title: "Coherence", about: "1 where the output follows from the input" },
  { names: ["transfer"], title: "Transfer curve", about: "level out over level in, dBFS", shape: "points" },
  {
    names: ["transfer_uncertainty"],
    title: "Its uncertainty",
    about: "of the level out at 95 %, dB",
    shape: "points",
  },
  { names: ["gain"], title: "Gain", about: "over time, dB" },
  { names: ["latency_by_event"], title: "Delay by event", about: "samples", shape: "points" },
  { names: ["momentary"], title: "Momentary loudness", about: "400 ms, LUFS", least: -80 },
  { names: ["short"], title: "Short-term loudness", about: "3 s, LUFS", least: -80 },
];

/** The curves that were measured, each on a chart of its own under the spectrum. */
export function Curves({ curves }: { curves: Curve[] }) {
  return KINDS.map((kind) => {
    const own = curves.filter(
      (curve) => kind.names.includes(curve.name.replace(/ \d+$/, "")) && curve.x.length > 1,
    );
    return own.length > 0 ? <CurvePlot key={kind.title} kind={kind} curves={own} /> : null;
  });
}

function CurvePlot({ kind, curves }: { kind: Kind; curves: Curve[] }) {
  const chart = useMemo(() => draw(kind, curves), [kind, curves]);
  return (
    <div className="mt-3 grid grid-cols-[7.5rem_1fr] border-t border-line pt-2">
      <div className="pr-2 text-xs leading-5 text-quiet">
        <h2 className="text-sm font-semibold text-text">{kind.title}</h2>
        <p>{kind.about}</p>
        {curves.map(({ side }) => (
          <p key={side} className={COLOURS[side]}>
            {MARKS[side]} {side}
          </p>
        ))}
      </div>
      <PlotBox chart={chart} label={`${kind.title}: ${kind.about}`} className="h-40 min-w-0 2xl:h-52" />
    </div>
  );
}

const COLOURS: Record<Curve["side"], string> = {
  reference: "text-reference",
  render: "text-render",
  difference: "text-difference",
};
const MARKS: Record<Curve["side"], string> = { reference: "—", render: "- -", difference: "···" };

function draw(kind: Kind, curves: Curve[]): Chart {
  const tables: uPlot.AlignedData[] = curves.map((curve) => [
    curve.x,
    curve.y.map((value) => (kind.least !== undefined && value < kind.least ? null : value)),
  ]);
  return { data: uPlot.join(tables), options: (size) => options(size, kind, curves) };
}

function options(size: Size, kind: Kind, curves: Curve[]): uPlot.Options {
  const byFrequency = curves[0]?.x_unit === "Hz";
  const top = Math.max(...curves.flatMap((curve) => curve.x)) * 1.05;
  const bottom = Math.max(20, Math.min(...curves.flatMap((curve) => curve.x)) * 0.95);
  const values = curves.flatMap((curve) => curve.y).filter((value) => value >= (kind.least ?? -1e9));
  const span = Math.max(...values) - Math.min(...values);
  const margin = Math.max(span * 0.08, smallest(curves[0]?.y_unit));
  const low = kind.shape === "bars" ? (kind.least ?? 0) : Math.min(...values) - margin;
  const digits = span > 20 ? 0 : span > 2 ? 1 : 2;
  return {
    ...size,
    legend: { show: false },
    cursor: { y: false, drag: { x: false, y: false }, points: { show: false } },
    padding: [8, 8, 0, 0],
    scales: {
      x: byFrequency ? { distr: 3, time: false, range: [bottom, top] } : { time: false },
      y: { range: [low, Math.max(...values) + margin] },
    },
    axes: [
      byFrequency
        ? frequencyAxis(top, bottom)
        : { ...axisLook(), grid: { show: false }, size: 28, values: (_, at) => at.map(plain) },
      { ...axisLook(), size: 44, space: 32, values: (_, at) => at.map((value) => number(value, digits)) },
    ],
    series: [{}, ...curves.map((curve) => series(curve, kind))],
  };
}

/** The least margin worth drawing, so that a flat line is not blown up to noise. */
const smallest = (unit: string | undefined) =>
  unit === "ms" || unit === "" ? 0.05 : unit === "samples" ? 0.5 : 0.5;

const plain = (value: number) => number(value, Number.isInteger(value) ? 0 : 1);

function series(curve: Curve, kind: Kind): uPlot.Series {
  const colour = inkColour(curve.side);
  const shared = { stroke: colour, width: curve.side === "reference" ? 1.75 : 1.25, spanGaps: true };
  if (kind.shape === "bars") {
    const bars = uPlot.paths.bars?.({ size: [0.5, 10], align: curve.side === "reference" ? -1 : 1 });
    const filled = curve.side === "render" ? {} : { fill: colour };
    const toFloor = { fillTo: () => kind.least ?? 0 };
    return { ...shared, ...filled, ...toFloor, ...(bars ? { paths: bars } : {}), points: { show: false } };
  }
  return {
    ...shared,
    dash: DASHES[curve.side],
    points: { show: kind.shape === "points", size: 6, stroke: colour },
  };
}
