import type { Stroke } from "./LinesPlot";
import type { Overlay } from "./queries";
import { REFERENCE_WIDTH, WIDTH } from "./strokes";

/** The lines by name, each with its stroke; the one that is pointed at comes to the front. */
export function RowList({
  overlay,
  strokes,
  near,
  onNear,
}: {
  overlay: Overlay;
  strokes: Stroke[];
  near: number | undefined;
  onNear: (line: number | undefined) => void;
}) {
  return (
    <ul className="max-h-[70vh] w-56 shrink-0 self-start overflow-auto pt-4">
      {overlay.lines.map((line, i) => {
        const stroke = strokes[i];
        const held = line.number === overlay.reference;
        return (
          <li key={line.number}>
            <button
              type="button"
              aria-pressed={near === line.number}
              onClick={() => onNear(line.number)}
              onFocus={() => onNear(line.number)}
              onBlur={() => onNear(undefined)}
              onMouseEnter={() => onNear(line.number)}
              onMouseLeave={() => onNear(undefined)}
              className={`flex w-full items-center gap-2 rounded px-1 py-0.5 text-left ${near === line.number ? "bg-sheet font-semibold" : ""}`}
            >
              <svg width="36" height="10" aria-hidden="true" className="shrink-0">
                <line
                  x1="0"
                  x2="36"
                  y1="5"
                  y2="5"
                  strokeWidth={held ? REFERENCE_WIDTH : WIDTH}
                  strokeDasharray={stroke?.dash.join(" ")}
                  strokeOpacity={stroke?.darkness}
                  className={held ? "stroke-reference" : "stroke-render"}
                />
              </svg>
              <span className="min-w-0 break-words">
                {line.label}
                {held && <span className="block text-xs font-normal text-quiet">held against</span>}
              </span>
            </button>
          </li>
        );
      })}
      {overlay.law && (
        <li className="flex items-center gap-2 px-1 py-0.5 text-quiet">
          <svg width="36" height="10" aria-hidden="true" className="shrink-0">
            <line x1="0" x2="36" y1="5" y2="5" strokeDasharray="1 3" className="stroke-quiet" />
          </svg>
          expected
        </li>
      )}
    </ul>
  );
}
