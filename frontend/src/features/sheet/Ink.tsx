import { createContext, useContext } from "react";
import type { Cell } from "../../api/client";
import { outline } from "./outline";

/** Levels of the difference over time, by number of the cell, where cells have room for a picture. */
export const Pictures = createContext<ReadonlyMap<number, number[]>>(new Map());

/** The more difference, the more ink; a small tick stands at the limit. What is decided on is hatched in grey. */
export function Ink({ cell, tick }: { cell: Cell; tick: number }) {
  const picture = useContext(Pictures).get(cell.id);
  if (cell.state !== "done" && cell.state !== "failed")
    return (
      <span
        className={`absolute top-1/2 left-1/2 h-px -translate-x-1/2 ${cell.state === "waiting" ? "w-1 bg-line" : "w-4 bg-quiet"}`}
      />
    );
  if (cell.verdict === "Waiting")
    return (
      <span className="absolute top-1/2 left-1/2 size-1.5 -translate-1/2 rounded-full border border-quiet" />
    );
  if (cell.verdict === "No reading")
    return (
      <svg
        viewBox="0 0 10 10"
        className={`absolute inset-0 m-auto size-3 ${cell.needs_you ? "stroke-text" : "stroke-line"}`}
        aria-hidden="true"
      >
        <path d="M1 1L9 9M9 1L1 9" />
      </svg>
    );
  if (cell.ink === 0) return null;
  const decided = cell.decision?.holds;
  const fill = decided ? "hatch-decided" : cell.verdict === "Fail" ? "bg-difference" : "hatch-changed";
  return (
    <>
      <span
        className={`arrive absolute inset-x-0 bottom-0 ${fill}`}
        data-picture={picture !== undefined}
        style={{
          height: `${Math.max(6, cell.ink * 100)}%`,
          ...(picture ? { clipPath: outline(picture) } : {}),
        }}
      />
      <span
        className={`absolute left-0 h-px w-1.5 ${cell.ink > tick && !decided ? "bg-on-ink" : "bg-quiet"}`}
        style={{ bottom: `${tick * 100}%` }}
      />
    </>
  );
}
