import { useMemo } from "react";
import type uPlot from "uplot";
import type { Curve } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { evenFrequencyAxis, frequencyAxis } from "../../../ui/PlotBox";
import { inkColour } from "./draw";
import { bare, empty, Pen, type Point } from "./pen";
import { type ReadableChart, ReadPlot } from "./ReadPlot";
import { curveOf } from "./toneLines";

/** Where the aliases of stepped tones land: tone across, line up, and the lines that arithmetic predicts. */
export function SweepMap({ curves, rate }: { curves: Curve[]; rate: number }) {
  const chart = useMemo(() => mapChart(curves, rate), [curves, rate]);
  if (!chart) return null;
  return (
    <div className="grid min-h-72 flex-[2] grid-cols-[7.5rem_1fr]">
      <div className="pr-2 text-xs leading-5 text-quiet">
        <h2 className="text-sm font-semibold text-text">Where aliases land</h2>
        <p>tone across, alias up; the larger, the louder</p>
        <p className="text-difference">● render</p>
        {curveOf(curves, "alias_map_output", "reference") && <p className="text-reference">○ reference</p>}
        <p>··· predicted, its order where it first meets half the rate</p>
      </div>
      <ReadPlot
        chart={chart}
        rate={rate}
        label="Aliases by the frequency of the tone and their own"
        className="min-h-56 flex-1"
      />
    </div>
  );
}

interface Spot {
  tone: number;
  line: number;
  level: number;
}

function spots(curves: Curve[], side: Curve["side"]): Spot[] {
  const tones = curveOf(curves, "alias_map_input", side);
  const lines = curveOf(curves, "alias_map_output", side)?.x ?? [];
  return lines.map((line, i) => ({ tone: tones?.x[i] ?? 0, line, level: tones?.y[i] ?? 0 }));
}

function mapChart(curves: Curve[], rate: number): ReadableChart | null {
  const render = spots(curves, "render");
  const reference = spots(curves, "reference");
  const tones = [...render, ...reference].map((spot) => spot.tone);
  if (tones.length === 0) return null;
  const drawn = curveOf(curves, "fold_lines", render.length > 0 ? "render" : "reference");
  const orders = curveOf(curves, "fold_lines_order", drawn?.side ?? "render")?.x ?? [];
  const low = Math.min(...tones, ...(drawn?.x ?? [])) * 0.95;
  const top = rate / 2;
  const paint = (plot: uPlot) => {
    const pen = new Pen(plot);
    const named: { at: Point; text: string }[] = [];
    for (const order of new Set(orders)) {
      const turns = (drawn?.x ?? []).flatMap((tone, i): Point[] =>
        orders[i] === order ? [[tone, drawn?.y[i] ?? 0]] : [],
      );
      pen.stroke(
        pen.quiet,
        0.75,
        curved(turns).map(([tone, line]) => pen.place(tone, line)),
        [1, 3],
      );
      const first = turns.find(([, line]) => line === top);
      if (first) named.push({ at: pen.place(...first), text: String(order) });
    }
    pen.labels(named, 8);
    const discs = (spots: Spot[], colour: string, least: number, filled: boolean) => {
      for (const { tone, line, level } of spots) {
        const share = loud(level);
        pen.disc(colour, pen.place(tone, line), least + 3 * share, filled, 0.2 + 0.8 * share);
      }
    };
    discs(render, inkColour("difference"), 1.5, true);
    discs(reference, inkColour("reference"), 3, false);
  };
  const dots = (spots: Spot[], side: string) =>
    spots.map(({ tone, line, level }) => ({
      x: tone,
      y: line,
      text: `${side}, alias at ${number(line, 0)} Hz`,
      value: level,
      unit: "dBFS",
    }));
  return {
    unit: "Hz",
    lines: [],
    points: [...dots(reference, "reference"), ...dots(render, "render")],
    data: empty(rate),
    options: (size) => ({
      ...bare(size),
      padding: [20, 14, 0, 0],
      scales: { x: { distr: 3, time: false, range: [low, top] }, y: { range: [0, top] } },
      axes: [frequencyAxis(top, low), evenFrequencyAxis(top, 44)],
      hooks: { draw: [paint] },
    }),
  };
}

/** From 0 at −120 dBFS to 1 at −30 and above. */
const loud = (level: number) => Math.min(1, Math.max(0, (level + 120) / 90));

const BETWEEN = 24;

/** What is straight over frequency bends over its logarithm. */
function curved(turns: Point[]): Point[] {
  return turns.flatMap(([x, y], i) => {
    const [nextX, nextY] = turns[i + 1] ?? [x, y];
    return Array.from({ length: BETWEEN }, (_, j): Point => {
      const share = j / (BETWEEN - 1);
      return [x + share * (nextX - x), y + share * (nextY - y)];
    });
  });
}
