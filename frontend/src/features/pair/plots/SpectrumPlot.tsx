import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import type uPlot from "uplot";
import type { Pair, Side, Spectrum } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { axisLook, DASHES, frequencyAxis, type Size } from "../../../ui/PlotBox";
import { spectrumQuery } from "../queries";
import type { View } from "../view";
import { INKS, type Ink, inkColour } from "./draw";
import { type ReadableChart, ReadPlot } from "./ReadPlot";
import { useSettled } from "./settled";

const LOWEST = -150;

type Spectra = Partial<Record<Ink, Spectrum | undefined>>;

/** The spectrum of the three: of the whole file, or of what is shown. */
export function SpectrumPlot({
  pair,
  frames,
  rate,
  view,
}: {
  pair: Pair;
  frames: number;
  rate: number;
  view: View;
}) {
  const whole = view.start === 0 && view.stop === frames;
  const settled = useSettled(view);
  const part: Spectra = {
    reference: useSpectrum(pair.reference, settled, !whole || !pair.spectra),
    render: useSpectrum(pair.render, settled, !whole || !pair.spectra),
    difference: useSpectrum(pair.difference, settled, !whole || !pair.spectra),
    signal: useSpectrum(pair.signal, settled, true),
  };
  const spectra: Spectra = whole && pair.spectra ? { ...part, ...pair.spectra } : part;
  const { reference, render, difference, signal } = spectra;
  const drawn = useMemo(
    () => spectrumChart({ reference, render, difference, signal }, rate),
    [reference, render, difference, signal, rate],
  );
  const window = (spectra.render ?? spectra.reference)?.window;
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[7.5rem_1fr]">
      <div className="pt-2 pr-2 text-xs leading-5 text-quiet">
        <h2 className="text-sm font-semibold text-text">Spectrum</h2>
        <p>{whole ? "the whole file" : "what is shown"}</p>
        {window && (
          <p>
            {number(window, 0)} frames,
            <br />
            Blackman-Harris
          </p>
        )}
        <p>dBFS of a sine</p>
      </div>
      <ReadPlot
        chart={drawn}
        rate={rate}
        label="Spectrum of reference, render and difference"
        className="min-h-56 flex-1"
      />
    </div>
  );
}

function useSpectrum(side: Side | null, view: View, enabled: boolean): Spectrum | undefined {
  const query = useQuery({
    ...spectrumQuery(side?.address ?? "", view.start, view.stop),
    enabled: enabled && side !== null,
  });
  return side === null ? undefined : query.data;
}

/** Levels over frequency of what there is of the three. */
export function spectrumChart(
  { reference, render, difference, signal }: Spectra,
  rate: number,
): ReadableChart | null {
  const first = reference ?? render;
  if (!first) return null;
  const sides = { reference, render, difference, signal };
  const levels = INKS.map((ink) => {
    const one = sides[ink];
    return one && one.frequencies.length === first.frequencies.length
      ? one.levels.map((level) => (level < LOWEST ? null : level))
      : first.frequencies.map(() => null);
  });
  return {
    data: [first.frequencies, ...levels],
    options: (size) => options(size, rate),
    unit: "Hz",
    linked: "pair, Hz",
    lines: INKS.map((ink) => ({ label: ink, unit: "dBFS", decimals: 1 })),
  };
}

function options(size: Size, rate: number): uPlot.Options {
  return {
    ...size,
    legend: { show: false },
    padding: [8, 8, 0, 0],
    scales: {
      x: { distr: 3, time: false, range: [20, rate / 2] },
      y: { range: [LOWEST, 0] },
    },
    axes: [
      frequencyAxis(rate / 2),
      {
        ...axisLook(),
        values: (_, splits) => splits.map((level) => number(level, Number.isInteger(level) ? 0 : 1)),
        space: 36,
        size: 44,
      },
    ],
    series: [
      {},
      ...INKS.map((ink) => ({
        stroke: inkColour(ink),
        width: ink === "reference" ? 1.75 : 1.25,
        dash: DASHES[ink],
        points: { show: false },
        spanGaps: false,
      })),
    ],
  };
}
