import { useQueries } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { number } from "../../ui/numbers";
import { needlesQuery } from "./queries";
import { at, END, place, type Shown, START } from "./reading";

export interface Needled {
  name: string;
  address: string;
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
  const found = useQueries({ queries: sides.map((side) => needlesQuery(side.address)) });
  const rows = useRef<(HTMLElement | null)[]>([]);
  useEffect(() => {
    let frame = 0;
    const draw = () => {
      const now = seconds();
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
  }, [found, sides, seconds, playing]);
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
          {FIGURES.map(({ key, title, unit }) => (
            <th key={key} scope="col" className="w-[11%] text-right">
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
