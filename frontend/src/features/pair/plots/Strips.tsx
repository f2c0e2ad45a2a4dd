import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { type PointerEvent, useEffect, useRef, useState } from "react";
import type { Pair, Side, Strip } from "../../../api/client";
import { number } from "../../../ui/numbers";
import type { Player } from "../player/player";
import { stripQuery } from "../queries";
import { type View, zoomed } from "../view";
import { drawStrip, greatest, INKS, type Ink, magnification } from "./draw";

const NAMES: Record<Ink, string> = { reference: "Reference", render: "Render", difference: "Difference" };
const COLOURS: Record<Ink, string> = {
  reference: "text-reference",
  render: "text-render",
  difference: "text-difference",
};
const COLUMN_STEP = 64; // widths are rounded to this, so that a resize does not ask for every pixel anew

interface Props {
  pair: Pair;
  frames: number;
  rate: number;
  view: View;
  player: Player | undefined;
  onView: (view: View) => void;
}

/** Reference, render and difference on one time axis. */
export function Strips({ pair, frames, rate, view, player, onView }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const width = useWidth(box);
  const [pointer, setPointer] = useState<number>();
  const [drag, setDrag] = useState<number>();
  const columns = Math.max(COLUMN_STEP, Math.round(width / COLUMN_STEP) * COLUMN_STEP);
  const sides: Record<Ink, Side | null> = {
    reference: pair.reference,
    render: pair.render,
    difference: pair.difference,
  };
  const strips: Record<Ink, Strip | undefined> = {
    reference: useStrip(sides.reference, view, columns),
    render: useStrip(sides.render, view, columns),
    difference: useStrip(sides.difference, view, columns),
  };
  // Reference and render share their scale, or they could not be compared by eye.
  const shared = magnification(Math.max(greatest(strips.reference), greatest(strips.render)));
  const own = magnification(greatest(strips.difference));

  const frameAt = (event: { clientX: number }) => {
    const rect = box.current?.getBoundingClientRect();
    if (!rect) return view.start;
    const share = Math.min(1, Math.max(0, (event.clientX - rect.left) / rect.width));
    return view.start + share * (view.stop - view.start);
  };
  useWheel(box, (event) => {
    if (Math.abs(event.deltaX) > Math.abs(event.deltaY)) {
      const by = ((view.stop - view.start) * event.deltaX) / 800;
      onView({ start: view.start + by, stop: view.stop + by });
    } else onView(zoomed(view, 1.0015 ** event.deltaY, frameAt(event), frames));
  });
  const release = (event: PointerEvent) => {
    const to = frameAt(event);
    if (drag !== undefined && Math.abs(to - drag) * width > 6 * (view.stop - view.start))
      onView({ start: Math.min(drag, to), stop: Math.max(drag, to) });
    setDrag(undefined);
  };
  const share = (frame: number) => `${((frame - view.start) / (view.stop - view.start)) * 100}%`;

  return (
    <div className="grid grid-cols-[7.5rem_1fr]">
      <div className="text-xs leading-6 text-quiet">{pointer === undefined ? "" : place(pointer, rate)}</div>
      <Axis view={view} rate={rate} />
      <div>
        {INKS.map((ink) => (
          <div key={ink} className="h-24 border-b border-line py-1.5 pr-2 2xl:h-32">
            <p className={`font-semibold ${COLOURS[ink]}`}>{NAMES[ink]}</p>
            <p className="truncate text-xs text-quiet" title={sides[ink]?.name}>
              {sides[ink]?.name ?? "none"}
            </p>
            <p className="text-xs text-quiet">{shown(ink === "difference" ? own : shared)}</p>
          </div>
        ))}
      </div>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: all that the pointer does here has a key too */}
      <div
        ref={box}
        className="relative cursor-crosshair touch-none select-none"
        onPointerDown={(event) => {
          if (event.button !== 0) return;
          event.currentTarget.setPointerCapture(event.pointerId);
          setDrag(frameAt(event));
        }}
        onPointerMove={(event) => setPointer(frameAt(event))}
        onPointerUp={release}
        onPointerLeave={() => setPointer(undefined)}
        onDoubleClick={() => onView({ start: 0, stop: frames })}
      >
        {INKS.map((ink) => (
          <StripCanvas
            key={ink}
            ink={ink}
            strip={strips[ink]}
            view={view}
            decibels={ink === "difference" ? own : shared}
            empty={sides[ink] === null}
          />
        ))}
        {drag !== undefined && pointer !== undefined && (
          <div
            className="pointer-events-none absolute inset-y-0 bg-shade"
            style={{
              left: share(Math.min(drag, pointer)),
              right: `calc(100% - ${share(Math.max(drag, pointer))})`,
            }}
          />
        )}
        <Playhead player={player} view={view} />
      </div>
    </div>
  );
}

const shown = (decibels: number) => (decibels === 0 ? "" : `shown +${decibels} dB`);

function place(frame: number, rate: number): string {
  return `${number(frame / rate, 4)} s, ${number(Math.floor(frame), 0)}`;
}

function useStrip(side: Side | null, view: View, columns: number): Strip | undefined {
  const query = useQuery({
    ...stripQuery(side?.address ?? "", view.start, view.stop, columns),
    enabled: side !== null && columns > COLUMN_STEP,
  });
  return side === null ? undefined : query.data;
}

function StripCanvas(props: {
  ink: Ink;
  strip: Strip | undefined;
  view: View;
  decibels: number;
  empty: boolean;
}) {
  const { ink, strip, view, decibels, empty } = props;
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const paint = () => canvas.current && drawStrip(canvas.current, strip, view, ink, decibels);
    paint();
    const theme = new MutationObserver(paint);
    theme.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    const size = new ResizeObserver(paint);
    if (canvas.current) size.observe(canvas.current);
    return () => {
      theme.disconnect();
      size.disconnect();
    };
  }, [strip, view, ink, decibels]);
  return (
    <div className="relative h-24 border-b border-line 2xl:h-32">
      <canvas
        ref={canvas}
        role="img"
        aria-label={`Waveform of the ${ink}`}
        data-ready={strip !== undefined || empty}
        className="h-full w-full"
      />
      {empty && (
        <p className="absolute inset-0 grid place-items-center text-quiet">
          {ink === "difference" ? "No difference without two sides" : `No ${ink}`}
        </p>
      )}
    </div>
  );
}

function Axis({ view, rate }: { view: View; rate: number }) {
  const scale = scaleLinear([view.start / rate, view.stop / rate], [0, 100]);
  const ticks = scale.ticks(8).filter((tick) => scale(tick) > 1 && scale(tick) < 97);
  return (
    <div aria-hidden="true" className="relative h-6 overflow-hidden border-b border-line text-xs text-quiet">
      {ticks.map((tick) => (
        <span key={tick} className="absolute bottom-0.5 -translate-x-1/2" style={{ left: `${scale(tick)}%` }}>
          {scale.tickFormat(8)(tick)}
          {tick === ticks.at(-1) ? " s" : ""}
        </span>
      ))}
    </div>
  );
}

function Playhead({ player, view }: { player: Player | undefined; view: View }) {
  const line = useRef<HTMLDivElement>(null);
  useEffect(() => {
    let frame = 0;
    const move = () => {
      const at = player?.position();
      const share = at === undefined ? -1 : (at - view.start) / (view.stop - view.start);
      if (line.current) {
        line.current.style.display = share < 0 || share > 1 ? "none" : "block";
        line.current.style.left = `${share * 100}%`;
      }
      frame = requestAnimationFrame(move);
    };
    move();
    return () => cancelAnimationFrame(frame);
  }, [player, view]);
  return <div ref={line} className="pointer-events-none absolute inset-y-0 w-px bg-text" />;
}

function useWidth(box: React.RefObject<HTMLDivElement | null>): number {
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const observer = new ResizeObserver(([entry]) => entry && setWidth(entry.contentRect.width));
    if (box.current) observer.observe(box.current);
    return () => observer.disconnect();
  }, [box]);
  return width;
}

/** React listens to wheels passively, and a passive listener cannot keep the page from scrolling. */
function useWheel(box: React.RefObject<HTMLDivElement | null>, act: (event: WheelEvent) => void) {
  const current = useRef(act);
  current.current = act;
  useEffect(() => {
    const element = box.current;
    const listen = (event: WheelEvent) => {
      event.preventDefault();
      current.current(event);
    };
    element?.addEventListener("wheel", listen, { passive: false });
    return () => element?.removeEventListener("wheel", listen);
  }, [box]);
}
