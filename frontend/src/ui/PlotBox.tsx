import { scaleLinear } from "d3-scale";
import { useEffect, useRef } from "react";
import uPlot from "uplot";
import { keepDrawn } from "./redraw";

export type Size = { width: number; height: number };
export type Chart = { options: (size: Size) => uPlot.Options; data: uPlot.AlignedData };

/** A uPlot chart that follows the size of its box and the theme. */
export function PlotBox({
  chart,
  label,
  className,
}: {
  chart: Chart | null;
  label: string;
  className: string;
}) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const element = box.current;
    if (!element || !chart) return;
    let plot: uPlot | undefined;
    const draw = () => {
      plot?.destroy();
      const size = { width: element.clientWidth, height: element.clientHeight };
      plot = new uPlot(chart.options(size), chart.data, element);
    };
    const end = keepDrawn(element, draw);
    return () => {
      end();
      plot?.destroy();
    };
  }, [chart]);
  return <div ref={box} role="img" aria-label={label} className={className} />;
}

/** The look that all axes share. */
export function axisLook(): Pick<uPlot.Axis, "stroke" | "font" | "grid" | "ticks"> {
  const css = getComputedStyle(document.documentElement);
  return {
    stroke: css.getPropertyValue("--quiet").trim(),
    font: "12px 'Commissioner Variable'",
    grid: { stroke: css.getPropertyValue("--line").trim(), width: 1 },
    ticks: { show: false },
  };
}

const FREQUENCIES = [20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000, 40_000];

/** A logarithmic axis of frequency from `low` up to `top`. */
export function frequencyAxis(top: number, low = 20): uPlot.Axis {
  return {
    ...axisLook(),
    grid: { show: false },
    splits: (_, __, min, max) => {
      const round = FREQUENCIES.filter((f) => f > Math.max(low, min) && f < Math.min(top, max));
      return round.length > 2 ? round : scaleLinear([min, max], [0, 1]).ticks(6);
    },
    values: (_, splits) => splits.map(hertz),
    filter: (_, splits) => splits,
    size: 28,
  };
}

const hertz = (f: number) =>
  f >= 1000 ? `${Number((f / 1000).toPrecision(6))} k` : String(Number(f.toPrecision(6)));

/** An even axis of frequency from zero up to `top`, across or upwards. */
export function evenFrequencyAxis(top: number, size: number): uPlot.Axis {
  const step = 4000 * Math.max(1, Math.round(top / 24_000));
  const round = Array.from({ length: Math.floor(top / step) + 1 }, (_, i) => i * step);
  return {
    ...axisLook(),
    splits: (_, __, min, max) => {
      const inside = round.filter((f) => f >= min && f <= max);
      return inside.length > 2 ? inside : scaleLinear([min, max], [0, 1]).ticks(6);
    },
    values: (_, at) => at.map(hertz),
    size,
  };
}

/** Reference whole, render dashed, difference dotted, the signal both: told apart without colour. */
export const DASHES = {
  reference: [],
  render: [6, 4],
  difference: [2, 2],
  signal: [8, 3, 2, 3],
} satisfies Record<string, number[]>;
