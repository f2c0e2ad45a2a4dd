import { type KeyboardEvent, useRef, useState } from "react";
import type { Props } from "./MainPlot";
import { Strips } from "./plots/Strips";

const LEAST = 22;
const MOST = 160;
const USUAL = 38;
const KEPT = "kind-echo.overview";

/** All of the file, always there; what is shown of it stands out. As high as the person drags it. */
export function Overview(props: Props) {
  const { frames, view, ...rest } = props;
  const [height, setHeight] = useState(() => Number(localStorage.getItem(KEPT)) || USUAL);
  const from = useRef<{ y: number; height: number }>(undefined);
  const keep = (wanted: number) => {
    const next = Math.round(Math.min(MOST, Math.max(LEAST, wanted)));
    setHeight(next);
    localStorage.setItem(KEPT, String(next));
  };
  const onKeyDown = (event: KeyboardEvent) => {
    const by = { ArrowUp: -8, ArrowDown: 8 }[event.key];
    if (by === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    keep(height + by);
  };
  return (
    <div>
      <Strips
        {...rest}
        of="Overview"
        frames={frames}
        view={{ start: 0, stop: frames }}
        shown={view}
        height={height}
      />
      {/* biome-ignore lint/a11y/useSemanticElements: a separator that is moved, not a rule between texts */}
      <div
        role="separator"
        aria-orientation="horizontal"
        aria-label="Height of the overview"
        aria-valuenow={height}
        aria-valuemin={LEAST}
        aria-valuemax={MOST}
        tabIndex={0}
        onKeyDown={onKeyDown}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          from.current = { y: event.clientY, height };
        }}
        onPointerMove={(event) => {
          const begun = from.current;
          if (begun) keep(begun.height + (event.clientY - begun.y) / 3);
        }}
        onPointerUp={() => {
          from.current = undefined;
        }}
        className="ml-[7.5rem] flex h-2.5 cursor-row-resize touch-none items-center justify-center"
      >
        <span className="h-0.5 w-10 rounded bg-line" />
      </div>
    </div>
  );
}
