import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { type PointerEvent, useEffect, useRef, useState } from "react";
import type { LevelMap, Pair, Side } from "../../../api/client";
import { Check } from "../../../ui/Checkbox";
import { number } from "../../../ui/numbers";
import { RadioGroup } from "../../../ui/RadioGroup";
import type { Player } from "../player/player";
import { mapQuery } from "../queries";
import type { View } from "../view";
import { INKS, type Ink, inkColour } from "./draw";
import { Axis, Playhead } from "./Strips";
import { useSettled } from "./settled";

const SIZE = { columns: 640, rows: 160 };
const LOW = { columns: 160, rows: 160 };
const LOWEST = { columns: 32, rows: 160 }; // of a long stretch, each column of which is read from another place
const LONG = 1 << 24; // frames
const COLOURS: Record<Ink, string> = {
  reference: "text-reference",
  render: "text-render",
  difference: "text-difference",
  signal: "text-signal",
};

/** Level over time and frequency of each side and of the difference: one ink, full for loud. */
export function MapPlot({
  pair,
  rate,
  view,
  player,
  onView,
}: {
  pair: Pair;
  rate: number;
  view: View;
  player: Player | undefined;
  onView: (view: View) => void;
}) {
  const [floor, setFloor] = useState(-110);
  const [top, setTop] = useState(-10);
  const [even, setEven] = useState(false);
  const [only, setOnly] = useState<Ink>();
  const [at, setAt] = useState<{ x: number; y: number }>();
  const [drag, setDrag] = useState<number>();
  const settled = useSettled(view);
  const maps: Record<Ink, LevelMap | undefined> = {
    reference: useMap(pair.reference, settled, even),
    render: useMap(pair.render, settled, even),
    difference: useMap(pair.difference, settled, even),
    signal: useMap(pair.signal, settled, even),
  };
  const there = INKS.filter((ink) => pair[ink] !== null);
  const drawn = only && there.includes(only) ? [only] : there;
  const first = there.map((ink) => maps[ink]).find(Boolean);
  const frameAt = (x: number) => view.start + x * (view.stop - view.start);
  const release = (to: number) => {
    if (drag !== undefined && Math.abs(to - drag) > 0.01)
      onView({ start: frameAt(Math.min(drag, to)), stop: frameAt(Math.max(drag, to)) });
    setDrag(undefined);
  };
  const said = at && first ? placeOf(at, first, even, frameAt(at.x) / rate) : "";
  const levels = at
    ? drawn.flatMap((ink) => {
        const level = levelAt(maps[ink], at);
        return level === undefined ? [] : [`${ink} ${number(level, 0)}`];
      })
    : [];
  return (
    <div className="flex flex-1 flex-col">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1 pb-1 pl-[7.5rem] text-xs text-quiet">
        <RadioGroup
          name="What is mapped"
          value={only ?? "all"}
          ways={(["all", ...there] as const).map((ink) => ({ value: ink, label: ink }))}
          onChoose={(ink) => setOnly(ink === "all" ? undefined : ink)}
          className="flex gap-3"
        />
        <Check label="Linear frequency" checked={even} onChange={setEven} />
        <Bound label="from" value={floor} onChange={setFloor} />
        <Bound label="to" value={top} onChange={setTop} />
        <span>dBFS</span>
        {first && first.share < 1 && (
          <span>
            {number(100 * first.share, first.share < 0.1 ? 1 : 0)} % of the time is looked at; zoom in for all
            of it
          </span>
        )}
      </div>
      <div className="grid grid-cols-[7.5rem_1fr]">
        <span />
        <Axis view={view} rate={rate} />
      </div>
      {drawn.map((ink) => (
        <div key={ink} className="grid min-h-24 flex-1 grid-cols-[7.5rem_1fr] border-b border-line">
          <div className="relative text-xs leading-5 text-quiet">
            <h2 className={`text-sm font-semibold capitalize ${COLOURS[ink]}`}>{ink}</h2>
            {first && <Frequencies map={first} even={even} />}
          </div>
          <div className="relative grid min-h-0">
            <MapCanvas
              ink={ink}
              map={maps[ink]}
              floor={floor}
              top={top}
              at={at}
              onMove={setAt}
              onPress={setDrag}
              onRelease={release}
            />
            <Playhead player={player} view={view} />
          </div>
        </div>
      ))}
      <p aria-live="polite" className="h-5 pl-[7.5rem] text-xs leading-5 text-quiet">
        {said && (
          <>
            <b className="font-semibold text-text">{said}</b>
            {levels.length > 0 && `: ${levels.join(", ")} dBFS, the greatest there`}
          </>
        )}
      </p>
    </div>
  );
}

/** A coarse map at once, the fine one when it is there. */
function useMap(side: Side | null, view: View, even: boolean): LevelMap | undefined {
  const address = side?.dropped_at ? "" : (side?.address ?? "");
  const enabled = address !== "";
  const coarse = useQuery({
    ...mapQuery(address, view, view.stop - view.start > LONG ? LOWEST : LOW, even, true),
    enabled,
    placeholderData: keepPreviousData,
  });
  const fine = useQuery({ ...mapQuery(address, view, SIZE, even, false), enabled });
  return enabled ? (fine.data ?? coarse.data) : undefined;
}

const ROUND = [100, 1000, 10_000];

/** Round frequencies beside a map. */
function Frequencies({ map, even }: { map: LevelMap; even: boolean }) {
  const round = even ? [5000, 10_000, 15_000, 20_000] : ROUND;
  return round
    .filter((hertz) => hertz < map.high)
    .map((hertz) => {
      const share = even ? hertz / map.high : Math.log(hertz / map.low) / Math.log(map.high / map.low);
      return (
        <span
          key={hertz}
          className="absolute right-2 translate-y-1/2 leading-4"
          style={{ bottom: `${100 * share}%` }}
        >
          {hertz < 1000 ? `${hertz} Hz` : `${hertz / 1000} kHz`}
        </span>
      );
    });
}

function levelAt(map: LevelMap | undefined, at: { x: number; y: number }): number | undefined {
  const column = map?.levels[Math.min(map.levels.length - 1, Math.floor(at.x * map.levels.length))];
  return column?.[Math.min(column.length - 1, Math.floor((1 - at.y) * column.length))];
}

function placeOf(at: { x: number; y: number }, map: LevelMap, even: boolean, seconds: number): string {
  const share = 1 - at.y;
  const hertz = even ? map.low + share * (map.high - map.low) : map.low * (map.high / map.low) ** share;
  return `${number(seconds, 3)} s, ${number(hertz, hertz < 100 ? 1 : 0)} Hz`;
}

function Bound({ label, value, onChange }: { label: string; value: number; onChange: (to: number) => void }) {
  return (
    <label className="flex items-center gap-1">
      {label}
      <input
        type="number"
        step={10}
        min={-140}
        max={20}
        value={value}
        onChange={(event) => onChange(Number(event.target.value))}
        className="h-6 w-14 rounded border border-quiet bg-sheet px-1 text-right text-text"
      />
    </label>
  );
}

function MapCanvas(props: {
  ink: Ink;
  map: LevelMap | undefined;
  floor: number;
  top: number;
  at: { x: number; y: number } | undefined;
  onMove: (at: { x: number; y: number } | undefined) => void;
  onPress: (x: number) => void;
  onRelease: (x: number) => void;
}) {
  const { ink, map, floor, top, at, onMove, onPress, onRelease } = props;
  const canvas = useRef<HTMLCanvasElement>(null);
  useEffect(() => {
    const paint = () => canvas.current && map && drawMap(canvas.current, map, ink, floor, top);
    paint();
    const theme = new MutationObserver(paint);
    theme.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    return () => theme.disconnect();
  }, [map, ink, floor, top]);
  const placeIn = (event: PointerEvent<HTMLElement>) => {
    const box = event.currentTarget.getBoundingClientRect();
    const share = (value: number, all: number) => Math.min(0.9999, Math.max(0, value / all));
    return { x: share(event.clientX - box.left, box.width), y: share(event.clientY - box.top, box.height) };
  };
  return (
    <div
      className="relative min-h-0 cursor-crosshair touch-none bg-sheet select-none"
      onPointerMove={(event) => onMove(placeIn(event))}
      onPointerLeave={() => onMove(undefined)}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        onPress(placeIn(event).x);
      }}
      onPointerUp={(event) => onRelease(placeIn(event).x)}
    >
      <canvas
        ref={canvas}
        role="img"
        aria-label={`Level map of the ${ink}`}
        data-ready={map !== undefined}
        className="absolute inset-0 h-full w-full"
      />
      {at && (
        <>
          <div
            className="pointer-events-none absolute inset-y-0 w-px bg-text"
            style={{ left: `${100 * at.x}%` }}
          />
          <div
            className="pointer-events-none absolute inset-x-0 h-px bg-text"
            style={{ top: `${100 * at.y}%` }}
          />
        </>
      )}
    </div>
  );
}

/** One ink, none at the lower end of the scale and full at the upper one. */
export function drawMap(
  canvas: HTMLCanvasElement,
  map: LevelMap,
  ink: Ink,
  floor: number,
  top: number,
): void {
  const columns = map.levels.length;
  const rows = map.levels[0]?.length ?? 0;
  canvas.width = columns;
  canvas.height = rows;
  const pen = canvas.getContext("2d");
  if (!pen || rows === 0) return;
  const [red = 0, green = 0, blue = 0] = rgb(inkColour(ink));
  const image = pen.createImageData(columns, rows);
  for (const [x, column] of map.levels.entries())
    for (const [y, level] of column.entries()) {
      const share = Math.min(1, Math.max(0, (level - floor) / Math.max(1, top - floor)));
      const i = 4 * ((rows - 1 - y) * columns + x);
      image.data.set([red, green, blue, 255 * share ** 1.6], i);
    }
  pen.putImageData(image, 0, 0);
}

function rgb(colour: string): number[] {
  const digits = colour.replace("#", "");
  return [0, 2, 4].map((i) => Number.parseInt(digits.slice(i, i + 2), 16));
}
