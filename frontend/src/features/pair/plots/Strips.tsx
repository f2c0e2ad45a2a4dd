import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { type PointerEvent, useEffect, useRef, useState } from "react";
import type { Pair, Side, Strip } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { keepDrawn } from "../../../ui/redraw";
import type { Player } from "../player/player";
import { stripQuery } from "../queries";
import { type View, zoomed } from "../view";
import { drawStrip, EVEN, greatest, INKS, type Ink, magnification, type Ruler } from "./draw";

const NAMES: Record<Ink, string> = {
  reference: "Reference",
  render: "Render",
  difference: "Difference",
  signal: "Signal",
};
const COLOURS: Record<Ink, string> = {
  reference: "text-reference",
  render: "text-render",
  difference: "text-difference",
  signal: "text-signal",
};
const COLUMN_STEP = 64; // widths are rounded to this, so that a resize does not ask for every pixel anew

interface Props {
  pair: Pair;
  frames: number;
  rate: number;
  /** What is drawn. */
  view: View;
  /** What is shown elsewhere, shaded here. */
  shown?: View;
  player: Player | undefined;
  onView: (view: View) => void;
  /** Pixels of each strip; as high as there is room where none is given. */
  height?: number;
  ruler?: Ruler;
  of: string;
}

/** The sides on one time axis: all of the file as an overview, or what is shown of it in large. */
export function Strips(props: Props) {
  const { pair, frames, rate, view, shown = view, player, onView, height, ruler = EVEN, of } = props;
  const inks = INKS.filter((ink) => pair[ink] !== null);
  const box = useRef<HTMLDivElement>(null);
  const width = useWidth(box);
  const [pointer, setPointer] = useState<number>();
  const [drag, setDrag] = useState<number>();
  const columns = Math.max(COLUMN_STEP, Math.round(width / COLUMN_STEP) * COLUMN_STEP);
  const sides: Record<Ink, Side | null> = {
    reference: pair.reference,
    render: pair.render,
    difference: pair.difference,
    signal: pair.signal,
  };
  const strips: Record<Ink, Strip | undefined> = {
    reference: useStrip(sides.reference, view, columns),
    render: useStrip(sides.render, view, columns),
    difference: useStrip(sides.difference, view, columns),
    signal: useStrip(sides.signal, view, columns),
  };
  // Reference and render share their scale, or they could not be compared by eye.
  const shared = magnification(
    Math.max(greatest(strips.reference), greatest(strips.render), greatest(strips.signal)),
  );
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
      onView({ start: shown.start + by, stop: shown.stop + by });
    } else onView(zoomed(shown, 1.0015 ** event.deltaY, frameAt(event), frames));
  });
  const release = (event: PointerEvent) => {
    const to = frameAt(event);
    if (drag !== undefined && Math.abs(to - drag) * width > 6 * (view.stop - view.start))
      onView({ start: Math.min(drag, to), stop: Math.max(drag, to) });
    setDrag(undefined);
  };
  const share = (frame: number) => `${((frame - view.start) / (view.stop - view.start)) * 100}%`;

  const whole = shown.start === view.start && shown.stop === view.stop;
  const low = height !== undefined && height < 60;
  const size = height === undefined ? "min-h-20 flex-1" : "";

  return (
    <div
      className={`grid grid-cols-[7.5rem_1fr] grid-rows-[auto_1fr] ${height === undefined ? "flex-1" : ""}`}
    >
      <div className="text-xs leading-6 text-quiet">{pointer === undefined ? "" : place(pointer, rate)}</div>
      <Axis view={view} rate={rate} />
      <div className="flex min-h-0 flex-col">
        {inks.map((ink) => (
          <div
            key={ink}
            style={{ height }}
            className={`overflow-hidden border-b border-line pr-2 ${low ? "leading-4" : "py-1.5"} ${size}`}
          >
            <p className={`font-semibold ${COLOURS[ink]}`}>{NAMES[ink]}</p>
            {!low && (
              <p className="truncate text-xs text-quiet" title={sides[ink]?.name}>
                {sides[ink]?.name ?? "none"}
              </p>
            )}
            <p className={`truncate text-xs text-quiet ${low ? "leading-4" : ""}`} title={sides[ink]?.name}>
              {raised(ink === "difference" ? own : shared) || (low ? sides[ink]?.name : "")}
            </p>
          </div>
        ))}
      </div>
      {/* biome-ignore lint/a11y/noStaticElementInteractions: all that the pointer does here has a key too */}
      <div
        ref={box}
        className="relative flex min-h-0 cursor-crosshair touch-none flex-col select-none"
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
        {inks.map((ink) => (
          <StripCanvas
            key={ink}
            of={of}
            ink={ink}
            strip={strips[ink]}
            view={view}
            decibels={ruler.scale === "decibels" ? 0 : ink === "difference" ? own : shared}
            ruler={ruler}
            height={height}
          />
        ))}
        {!whole && (
          <>
            <div
              className="pointer-events-none absolute inset-y-0 left-0 bg-ground/70"
              style={{ width: share(shown.start) }}
            />
            <div
              className="pointer-events-none absolute inset-y-0 right-0 bg-ground/70"
              style={{ left: share(shown.stop) }}
            />
            <div
              className="pointer-events-none absolute inset-y-0 border-x border-text"
              style={{ left: share(shown.start), right: `calc(100% - ${share(shown.stop)})` }}
            />
          </>
        )}
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

const raised = (decibels: number) => (decibels === 0 ? "" : `shown +${decibels} dB`);

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
  ruler: Ruler;
  height: number | undefined;
  of: string;
}) {
  const { ink, strip, view, decibels, ruler, height, of } = props;
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const element = canvas.current;
    if (!element) return;
    return keepDrawn(element, () => drawStrip(element, strip, view, ink, decibels, ruler));
  }, [strip, view, ink, decibels, ruler]);
  return (
    <div
      style={{ height }}
      className={`relative border-b border-line ${height === undefined ? "min-h-20 flex-1" : ""}`}
    >
      <canvas
        ref={canvas}
        role="img"
        aria-label={`${of} of the ${ink}`}
        data-ready={strip !== undefined}
        className="absolute inset-0 h-full w-full"
      />
    </div>
  );
}

/** Times along the top of what is drawn. */
export function Axis({ view, rate }: { view: View; rate: number }) {
  const scale = scaleLinear([view.start / rate, view.stop / rate], [0, 100]);
  const ticks = scale.ticks(8).filter((tick) => scale(tick) > 1 && scale(tick) < 97);
  return (
    <div aria-hidden="true" className="relative h-6 overflow-hidden border-b border-line text-xs text-quiet">
      {ticks.map((tick) => (
        <span
          key={tick}
          className="absolute bottom-0.5 -translate-x-1/2 whitespace-nowrap"
          style={{ left: `${scale(tick)}%` }}
        >
          {scale.tickFormat(8)(tick)}
          {tick === ticks.at(-1) ? " s" : ""}
        </span>
      ))}
    </div>
  );
}

/** A line that runs with what sounds. */
export function Playhead({ player, view }: { player: Player | undefined; view: View }) {
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
