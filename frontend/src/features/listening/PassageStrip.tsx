import { useQuery } from "@tanstack/react-query";
import { type PointerEvent, useEffect, useRef, useState } from "react";
import { number } from "../../ui/numbers";
import { keepDrawn } from "../../ui/redraw";
import { drawStrip, greatest, magnification } from "../pair/plots/draw";
import { stripQuery } from "../pair/queries";
import type { Looper } from "./looper";

const COLUMN_STEP = 64;
const LEAST_DRAG = 4; // pixels; less is a click

interface Props {
  address: string;
  frames: number;
  rate: number;
  start: number;
  stop: number;
  looper: Looper | undefined;
  /** Seconds that a passage may have. */
  most: number;
  onPassage: (start: number, end: number) => void;
}

/** The first side as a waveform, the passage shaded in it; another is chosen by drag, or moved by keys. */
export function PassageStrip({ address, frames, rate, start, stop, looper, most, onPassage }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const head = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const [drag, setDrag] = useState<{ from: number; to: number }>();
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const look = new ResizeObserver(() => setWidth(element.clientWidth));
    look.observe(element);
    return () => look.disconnect();
  }, []);
  const columns = Math.max(COLUMN_STEP, Math.round(width / COLUMN_STEP) * COLUMN_STEP);
  const strip = useQuery({ ...stripQuery(address, 0, frames, columns), enabled: width > 0 });
  useEffect(() => {
    const element = canvas.current;
    if (!element || width === 0) return;
    const decibels = magnification(greatest(strip.data));
    element.dataset.ready = String(strip.data !== undefined);
    return keepDrawn(element, () =>
      drawStrip(element, strip.data, { start: 0, stop: frames }, "signal", decibels),
    );
  }, [strip.data, frames, width]);
  useEffect(() => {
    let frame = 0;
    const follow = () => {
      const at = looper?.position();
      if (head.current) {
        head.current.style.display = at === undefined ? "none" : "";
        if (at !== undefined) head.current.style.left = `${(100 * (start + at * (stop - start))) / frames}%`;
      }
      frame = requestAnimationFrame(follow);
    };
    follow();
    return () => cancelAnimationFrame(frame);
  }, [looper, start, stop, frames]);
  const at = (event: PointerEvent) => {
    const rect = box.current?.getBoundingClientRect();
    return rect ? Math.min(frames, Math.max(0, ((event.clientX - rect.left) / rect.width) * frames)) : 0;
  };
  const longest = Math.floor(most * rate);
  const within = (from: number, to: number) => Math.max(from - longest, Math.min(from + longest, to));
  const shown = drag
    ? { start: Math.min(drag.from, drag.to), stop: Math.max(drag.from, drag.to) }
    : { start, stop };
  const move = (by: number) => {
    const length = stop - start;
    const from = Math.min(frames - length, Math.max(0, start + by));
    onPassage(from / rate, (from + length) / rate);
  };
  const grow = (by: number) =>
    onPassage(start / rate, Math.min(frames, within(start, Math.max(start + 0.05 * rate, stop + by))) / rate);
  return (
    <div
      ref={box}
      role="slider"
      tabIndex={0}
      aria-label="Passage"
      aria-valuemin={0}
      aria-valuemax={frames / rate}
      aria-valuenow={start / rate}
      aria-valuetext={`${number(start / rate, 2)} to ${number(stop / rate, 2)} s`}
      className="relative h-28 cursor-crosshair touch-none border-y border-line bg-sheet"
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        setDrag({ from: at(event), to: at(event) });
      }}
      onPointerMove={(event) => drag && setDrag({ ...drag, to: within(drag.from, at(event)) })}
      onPointerUp={() => {
        if (drag && (Math.abs(drag.to - drag.from) / frames) * width >= LEAST_DRAG)
          onPassage(shown.start / rate, shown.stop / rate);
        setDrag(undefined);
      }}
      onKeyDown={(event) => {
        const step = Math.max(0.1 * rate, (stop - start) / 10);
        const acts: Record<string, () => void> = {
          ArrowRight: () => (event.shiftKey ? grow(step) : move(step)),
          ArrowLeft: () => (event.shiftKey ? grow(-step) : move(-step)),
        };
        const act = acts[event.key];
        if (!act) return;
        event.preventDefault();
        event.stopPropagation();
        act();
      }}
    >
      <canvas ref={canvas} className="absolute inset-0 h-full w-full" />
      <div
        aria-hidden="true"
        className="absolute inset-y-0 border-x border-text bg-shade"
        style={{
          left: `${(100 * shown.start) / frames}%`,
          width: `${(100 * (shown.stop - shown.start)) / frames}%`,
        }}
      />
      <div
        ref={head}
        aria-hidden="true"
        className="absolute inset-y-0 w-0.5 bg-text"
        style={{ display: "none" }}
      />
    </div>
  );
}
