import { useQueries } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { number } from "../../ui/numbers";
import { bandsQuery, needlesQuery, type Sounding } from "./queries";
import { at, bandsAt, END, height, PART_SECONDS, place, type Shown, START } from "./reading";

export interface Needled {
  name: string;
  sounding: Sounding;
  /** Decibels by which it is played louder. */
  gain?: number;
  /** Class of its colour. */
  ink: string;
}

const FIGURES: { key: keyof Shown; title: string; unit: string }[] = [
  { key: "momentary", title: "momentary", unit: "LUFS" },
  { key: "short", title: "short-term", unit: "LUFS" },
  { key: "peak", title: "peak", unit: "dBFS" },
  { key: "true_peak", title: "true peak", unit: "dBTP" },
];

/** Needles of every side at hand at the place that sounds, as the core has computed them along the files. */
export function Needles({
  sides,
  seconds,
  playing,
}: {
  sides: Needled[];
  /** What sounds now, in seconds of the file; undefined where nothing does. */
  seconds: () => number | undefined;
  playing: boolean;
}) {
  const found = useQueries({ queries: sides.map((side) => needlesQuery(side.sounding)) });
  const [part, setPart] = useState(0);
  const bands = useQueries({ queries: sides.map((side) => bandsQuery(side.sounding, part)) });
  const rows = useRef<(HTMLElement | null)[]>([]);
  useEffect(() => {
    let frame = 0;
    const draw = () => {
      const now = seconds();
      if (now !== undefined) setPart(Math.floor(now / PART_SECONDS));
      for (const [i, side] of sides.entries()) {
        const row = rows.current[i];
        const data = found[i]?.data;
        if (!row || !data) continue;
        const shown = now === undefined ? undefined : at(data, now, side.gain ?? 0);
        const needle = row.querySelector<HTMLElement>("[data-needle]");
        if (needle) {
          needle.style.left = `${100 * place(shown?.needle ?? START)}%`;
          needle.style.opacity = shown ? "1" : "0.3";
        }
        const heights = now === undefined ? [] : bandsAt(bands[i]?.data, now, side.gain ?? 0).map(height);
        row.querySelector("[data-bands]")?.setAttribute("d", barsOf(heights));
        for (const { key } of FIGURES) {
          const cell = row.querySelector(`[data-figure="${key}"]`);
          const value = shown?.[key];
          if (cell) cell.textContent = value === undefined || value <= data.floor ? "–" : number(value, 1);
        }
      }
      if (playing) frame = requestAnimationFrame(draw);
    };
    draw();
    return () => cancelAnimationFrame(frame);
  }, [found, bands, sides, seconds, playing]);
  return (
    <table className="w-full table-fixed" aria-label="Needles at the place that sounds">
      <thead className="text-left text-xs text-quiet [&>tr>th]:px-2 [&>tr>th]:py-1 [&>tr>th]:font-normal">
        <tr>
          <th scope="col" className="w-[18%]">
            Side
          </th>
          <th scope="col">
            <Scale />
          </th>
          <th scope="col" className="w-[14%]">
            last 100 ms, 50 Hz up
          </th>
          {FIGURES.map(({ key, title, unit }) => (
            <th key={key} scope="col" className="w-[10%] text-right">
              {title}, {unit}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {sides.map((side, i) => (
          <tr
            key={side.name}
            ref={(row) => {
              rows.current[i] = row;
            }}
            className="border-t border-line [&>td]:px-2 [&>td]:py-1"
          >
            <th scope="row" className="truncate px-2 py-1 text-left font-semibold">
              {side.name}
            </th>
            <td>
              <div className="relative h-4 border-b border-line">
                <span
                  data-needle
                  className={`absolute top-0 bottom-0 w-[3px] -translate-x-1/2 ${side.ink}`}
                  style={{ left: "0%" }}
                />
              </div>
            </td>
            <td>
              <svg viewBox="0 0 100 20" preserveAspectRatio="none" className="h-5 w-full" aria-hidden="true">
                <path data-bands d="" className={FILLS[side.ink] ?? "fill-text"} />
                <line x1="0" x2="100" y1="20" y2="20" className="stroke-line" />
              </svg>
            </td>
            {FIGURES.map(({ key }) => (
              <td key={key} data-figure={key} className="text-right tabular-nums">
                –
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The colours of bars that go with those of needles. */
const FILLS: Record<string, string> = {
  "bg-text": "fill-text",
  "bg-quiet": "fill-quiet",
  "bg-reference": "fill-reference",
  "bg-render": "fill-render",
  "bg-difference": "fill-difference",
};

/** Third octaves as bars beside each other, from the lowest up. */
function barsOf(heights: number[]): string {
  const width = 100 / Math.max(1, heights.length);
  return heights
    .map(
      (one, i) => `M${(i * width).toFixed(2)} 20v${(-20 * one).toFixed(2)}h${(0.8 * width).toFixed(2)}V20z`,
    )
    .join("");
}

const MARKS = [-20, -10, -7, -5, -3, 0, END];

/** The scale of the needle, in VU. */
function Scale() {
  return (
    <div aria-hidden="true" className="relative h-4">
      {MARKS.map((mark) => (
        <span
          key={mark}
          className="absolute -translate-x-1/2 first:translate-x-0 last:-translate-x-full"
          style={{ left: `${100 * place(mark)}%` }}
        >
          {number(mark, 0)}
        </span>
      ))}
      <span className="sr-only">Needle, VU</span>
    </div>
  );
}
