import { useMemo } from "react";
import type { Pair } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { ReadPlot } from "./ReadPlot";
import { type Line, pathChart, stemsChart, type ToneLines, toneLines } from "./toneLines";

const LISTED = 6;

/** A steady tone: its harmonics and aliases as stems, and under them the way by which each order came there. */
export function Folds({ pair, rate }: { pair: Pair; rate: number }) {
  const tone = useMemo(() => toneLines(pair), [pair]);
  const stems = useMemo(() => tone && stemsChart(tone, rate), [tone, rate]);
  const path = useMemo(() => tone && pathChart(tone, rate), [tone, rate]);
  if (!tone) return null;
  return (
    <section aria-label="Harmonics and aliases" className="flex flex-1 flex-col">
      <div className="grid min-h-80 flex-1 grid-cols-[7.5rem_1fr] grid-rows-[3fr_2fr]">
        <div className="pr-2 text-xs leading-5 text-quiet">
          <h2 className="text-sm font-semibold text-text">Lines</h2>
          <p>of the tone, dBFS</p>
          <p className="text-render">■ harmonics</p>
          <p className="text-difference">● aliases</p>
          {tone.reference.length > 0 && <p className="text-reference">━ in the reference</p>}
        </div>
        <ReadPlot
          chart={stems}
          rate={rate}
          label="Harmonics and aliases of the tone by frequency"
          className="min-h-0 flex-1"
        />
        <div className="pt-2 pr-2 text-xs leading-5 text-quiet">
          <h2 className="text-sm font-semibold text-text">Where each order lands</h2>
          <p>Read down. At half the rate and at zero the line turns.</p>
        </div>
        <ReadPlot
          chart={path}
          rate={rate}
          label="Path of the orders, folded at half the rate and at zero"
          className="min-h-0 flex-1"
        />
      </div>
    </section>
  );
}

/** The aliases by their level, beside the plot. */
export function Strongest({ pair }: { pair: Pair }) {
  const tone = useMemo(() => toneLines(pair), [pair]);
  if (!tone) return null;
  const aliases = tone.render.filter((line) => line.kind === "alias").sort((a, b) => b.level - a.level);
  if (aliases.length === 0)
    return tone.why ? <p className="pb-4 text-quiet first-letter:uppercase">{tone.why}.</p> : null;
  return (
    <section aria-label="Aliases" className="pb-4 text-xs leading-5">
      <h2 className="pb-1 text-sm font-semibold">
        {aliases.length > LISTED ? `The ${LISTED} strongest of ${aliases.length} aliases` : "Aliases"}
      </h2>
      <Listed lines={aliases.slice(0, LISTED)} tone={tone} />
    </section>
  );
}

function Listed({ lines, tone }: { lines: Line[]; tone: ToneLines }) {
  const beside = tone.reference.length > 0;
  const there = new Map(tone.reference.map((line) => [line.order, line.level]));
  return (
    <table className="w-full">
      <thead className="text-quiet">
        <tr>
          <th className="pr-4 text-right font-normal">order</th>
          <th className="pr-4 text-left font-normal">from → to, Hz</th>
          <th className="text-right font-normal">dBFS</th>
          {beside && <th className="pl-4 text-right font-normal">reference</th>}
        </tr>
      </thead>
      <tbody>
        {lines.map((line) => (
          <tr key={line.order}>
            <td className="pr-4 text-right">{line.order}</td>
            <td className="pr-4">
              {number(line.order * tone.fundamental, 0)} → {number(line.frequency, 0)}
            </td>
            <td className="text-right font-semibold text-difference">{number(line.level, 1)}</td>
            {beside && (
              <td className="pl-4 text-right text-reference">
                {there.has(line.order) ? number(there.get(line.order) ?? 0, 1) : "—"}
              </td>
            )}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
