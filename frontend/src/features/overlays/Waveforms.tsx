import { useMemo } from "react";
import { LinesPlot, type OnSpot, type PlotLook, type Stroke } from "./LinesPlot";
import type { Overlay } from "./queries";
import { extent } from "./reading";

/** Waveforms under each other, of one passage and in one scale. */
export function Waveforms({
  overlay,
  strokes,
  onSpot,
  onPassage,
}: {
  overlay: Overlay;
  strokes: Stroke[];
  onSpot: OnSpot;
  onPassage: (start: number, stop: number) => void;
}) {
  const looks = useMemo(() => {
    const most = Math.max(...extent(overlay.lines.flatMap((line) => [line.y, line.low ?? []])).map(Math.abs));
    const [start = 0, stop = 1] = overlay.passage;
    const of = (x: boolean): PlotLook => ({
      xUnit: "s",
      steps: false,
      x: [start, stop],
      y: [-most, most],
      axes: { x, y: true },
      linked: "overlay",
    });
    return { plain: of(false), last: of(true) };
  }, [overlay]);
  return (
    <ul className="min-h-0 flex-1 overflow-auto pt-1">
      {overlay.lines.map((line, i) => {
        const last = i === overlay.lines.length - 1;
        return (
          <li key={line.number} className="grid grid-cols-[11rem_1fr] items-center gap-2">
            <p className="truncate text-xs font-semibold" title={line.label}>
              {line.label}
            </p>
            <Wave
              stroke={strokes[i]}
              label={line.label}
              look={last ? looks.last : looks.plain}
              className={last ? "h-24" : "h-18"}
              onSpot={onSpot}
              onPassage={onPassage}
            />
          </li>
        );
      })}
    </ul>
  );
}

function Wave({
  stroke,
  label,
  look,
  className,
  onSpot,
  onPassage,
}: {
  stroke: Stroke | undefined;
  label: string;
  look: PlotLook;
  className: string;
  onSpot: OnSpot;
  onPassage: (start: number, stop: number) => void;
}) {
  const strokes = useMemo(() => (stroke ? [stroke] : []), [stroke]);
  return (
    <LinesPlot
      strokes={strokes}
      look={look}
      label={label}
      className={className}
      near={undefined}
      onSpot={onSpot}
      onStretch={onPassage}
    />
  );
}
