import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { Button, Sentence, Word } from "../../ui/controls";
import { count } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { TakeAway } from "../../ui/TakeAway";
import { LinesPlot, type OnSpot, type PlotLook, type Stroke } from "./LinesPlot";
import { type Asked, fileOf, type Overlay, type OverlayLine, overlayQuery, type Source } from "./queries";
import { RowList } from "./RowList";
import { extent, told } from "./reading";
import { darkness, strokeOf } from "./strokes";
import { Waveforms } from "./Waveforms";

const number = (text: string | null): number | null => (text ? Number(text) : null);

/** What the address says of how lines are laid over each other. */
function useAsked(): [Asked, (changes: Record<string, string>) => void] {
  const [search, setSearch] = useSearchParams();
  const asked = {
    kind: search.get("kind") ?? "",
    against: number(search.get("against")),
    start: number(search.get("start")),
    stop: number(search.get("stop")),
  };
  const put = (changes: Record<string, string>) =>
    setSearch(
      (before) => {
        for (const [key, value] of Object.entries(changes))
          value ? before.set(key, value) : before.delete(key);
        return before;
      },
      { replace: true },
    );
  return [asked, put];
}

/** Many lines over each other: by what, against which of them, the picture, and what is at the cursor in words. */
export function OverlayView({
  source,
  version = "",
  crumbs,
}: {
  source: Source;
  version?: string;
  /** The way back, where the overlay is a page of its own. */
  crumbs?: ReactNode;
}) {
  const [asked, put] = useAsked();
  const found = useQuery(overlayQuery(source, asked, version));
  if (found.isPending) return <Loading what="the overlay" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const overlay = found.data;
  const held = overlay.kind !== "waveform" && overlay.reference !== null;
  const words = (
    <>
      <Word
        name="Overlay of"
        value={overlay.kind}
        choices={overlay.kinds.map((one) => ({ value: one.key, label: one.title }))}
        onChoose={(kind) => put({ kind, start: "", stop: "" })}
      />{" "}
      of {count(overlay.rows.length - (held ? 1 : 0), overlay.what)}
      {held && (
        <>
          {" "}
          against{" "}
          <Word
            name="Held against"
            value={String(overlay.reference)}
            choices={overlay.rows.map((one) => ({ value: one.key, label: one.title }))}
            onChoose={(against) => put({ against })}
          />
        </>
      )}
      .
    </>
  );
  const file = fileOf(source, { ...asked, kind: overlay.kind });
  return (
    <section aria-label="Overlay" className="flex min-h-0 flex-1 flex-col px-5 pb-3">
      <Stale error={found.error} />
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1 py-1">
        {crumbs ? <Sentence>{words}</Sentence> : <h2 className="text-base">{words}</h2>}
        {asked.stop !== null && (
          <Button small onClick={() => put({ start: "", stop: "" })}>
            Show the whole length
          </Button>
        )}
        <div className="ml-auto">
          <TakeAway
            what="the overlay"
            files={(["svg", "png"] as const).map((form) => ({
              label: `This overlay, ${form.toUpperCase()}`,
              path: `${file.path}.${form}${file.query}`,
            }))}
          />
        </div>
      </div>
      {crumbs}
      <p className="pb-1 text-quiet">
        {overlay.shared && `${overlay.shared}. `}
        {overlay.finding}
      </p>
      {overlay.lines.length > 0 && (
        <Lines
          overlay={overlay}
          onPassage={(start, stop) => put({ start: start.toFixed(4), stop: stop.toFixed(4) })}
        />
      )}
      {overlay.left_out.length > 0 && (
        <p className="pt-1 text-xs text-quiet">
          Not drawn: {overlay.left_out.map((one) => `${one.label} ${one.why}`).join("; ")}.
        </p>
      )}
    </section>
  );
}

interface Spot {
  number: number | undefined;
  place: number | undefined;
}

function Lines({
  overlay,
  onPassage,
}: {
  overlay: Overlay;
  onPassage: (start: number, stop: number) => void;
}) {
  const [spot, setSpot] = useState<Spot>({ number: undefined, place: undefined });
  const put = (line: number | undefined, place: number | undefined) =>
    setSpot((before) => ({ number: line, place: place ?? before.place }));
  const strokes = useMemo(() => strokesOf(overlay), [overlay]);
  const line = overlay.lines.find((one) => one.number === spot.number);
  const middle = line?.x[line.x.length >> 1] ?? 0;
  const words = line ? told(overlay, line, spot.place ?? middle) : "";
  return (
    <>
      {overlay.kind === "waveform" ? (
        <Waveforms overlay={overlay} strokes={strokes} onSpot={put} onPassage={onPassage} />
      ) : overlay.together ? (
        <Together overlay={overlay} strokes={strokes} near={spot.number} onSpot={put} />
      ) : (
        <Apart overlay={overlay} strokes={strokes} onSpot={put} />
      )}
      <p aria-live="polite" className="min-h-5 pt-1 text-xs">
        {words || (
          <span className="text-quiet">
            {overlay.kind === "waveform"
              ? "Drag over a stretch to see it larger."
              : "Point at a line to read it; drag to zoom in, double-click to zoom out."}
          </span>
        )}
      </p>
    </>
  );
}

function strokesOf(overlay: Overlay): Stroke[] {
  const others = overlay.lines.filter((one) => one.number !== overlay.reference);
  return overlay.lines.map((line) => {
    const turn = others.indexOf(line);
    return {
      number: line.number,
      x: line.x,
      y: line.y,
      low: line.low,
      kind: turn < 0 ? "reference" : "plain",
      dash: turn < 0 || !overlay.together ? [] : strokeOf(turn),
      darkness: overlay.over_time && turn >= 0 ? darkness(turn, others.length) : 1,
    };
  });
}

/** All in one picture, and under it by how much each lies above the reference. */
function Together({
  overlay,
  strokes,
  near,
  onSpot,
}: {
  overlay: Overlay;
  strokes: Stroke[];
  near: number | undefined;
  onSpot: (line: number | undefined, place: number | undefined) => void;
}) {
  const parts = useMemo(() => {
    const apart = overlay.lines.some((line) => line.difference);
    const law: Stroke[] = overlay.law
      ? [{ number: -1, ...overlay.law, low: null, kind: "law", dash: [1, 3], darkness: 1 }]
      : [];
    const x = spanOf(overlay);
    const shared = { xUnit: overlay.x_unit, steps: overlay.join === "steps", x, linked: "overlay" };
    const main: PlotLook = {
      ...shared,
      y: extent([...overlay.lines.map((line) => line.y), overlay.law?.y ?? []], overlay.least),
      axes: { x: !apart, y: true },
    };
    const under: PlotLook = {
      ...shared,
      y: extent([[-0.05, 0.05], ...overlay.lines.map((line) => line.difference?.y ?? [])], null, 0.1),
      axes: { x: true, y: true },
    };
    const differences = strokes.map((stroke, i): Stroke => {
      const line = overlay.lines[i];
      if (line?.number === overlay.reference && line) return { ...stroke, x: [...x], y: [0, 0] };
      return { ...stroke, x: line?.difference?.x ?? [], y: line?.difference?.y ?? [] };
    });
    return { apart, main, under, differences, strokes: [...law, ...strokes] };
  }, [overlay, strokes]);
  return (
    <div className="flex min-h-96 flex-1 gap-4">
      <div className="flex min-w-0 flex-1 flex-col">
        <Axis text={overlay.y_title} />
        <LinesPlot
          strokes={parts.strokes}
          look={parts.main}
          label={`${overlay.y_title} by ${overlay.x_title}; up and down choose a line, left and right a place`}
          className="min-h-52 flex-[2]"
          near={near}
          onSpot={onSpot}
        />
        {parts.apart && (
          <>
            <Axis text={`from the reference, ${overlay.difference_unit}`} />
            <LinesPlot
              strokes={parts.differences}
              look={parts.under}
              label={`How far each lies from the reference, ${overlay.difference_unit}`}
              className="min-h-28 flex-1"
              near={near}
              onSpot={onSpot}
            />
          </>
        )}
        <p className="text-right text-xs text-quiet">{overlay.x_title}</p>
      </div>
      <RowList overlay={overlay} strokes={strokes} near={near} onNear={(line) => onSpot(line, undefined)} />
    </div>
  );
}

const Axis = ({ text }: { text: string }) => <p className="text-xs text-quiet">{text}</p>;

const LOWEST_HERTZ = 20;

/** First and last place of all lines. */
function spanOf(overlay: Overlay): [number, number] {
  const ends = overlay.lines.flatMap((line) => [line.x[0] ?? [], line.x.at(-1) ?? []].flat());
  const high = Math.max(...ends);
  // What is under hearing takes no room of a logarithmic axis.
  const low =
    overlay.x_unit === "Hz" && high > LOWEST_HERTZ
      ? Math.max(LOWEST_HERTZ, Math.min(...ends))
      : Math.min(...ends);
  if (low >= high) return [low - 1, high + 1];
  const room = overlay.join === "steps" && overlay.x_unit !== "Hz" ? (high - low) * 0.02 : 0;
  return [low - room, high + room];
}

/** One small picture a line, all in one scale, the reference behind it. */
function Apart({ overlay, strokes, onSpot }: { overlay: Overlay; strokes: Stroke[]; onSpot: OnSpot }) {
  const [look, reference] = useMemo(() => {
    const scale: PlotLook = {
      xUnit: overlay.x_unit,
      steps: overlay.join === "steps",
      x: spanOf(overlay),
      y: extent(
        overlay.lines.map((line) => line.y),
        overlay.least,
      ),
      axes: { x: true, y: true },
      linked: "overlay",
      small: true,
    };
    const held = strokes.find((one) => one.kind === "reference");
    return [scale, held];
  }, [overlay, strokes]);
  const small = overlay.lines.filter((line) => line.number !== overlay.reference);
  return (
    <>
      <p className="pt-1 text-xs text-quiet">
        {overlay.y_title} by {overlay.x_title}, all in one scale
        {reference && "; the thick line is what they are held against"}
      </p>
      <ul className="grid min-h-0 flex-1 grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-x-4 gap-y-2 overflow-auto pt-1">
        {small.map((line) => (
          <Small
            key={line.number}
            line={line}
            strokes={strokes}
            held={reference}
            look={look}
            onSpot={onSpot}
          />
        ))}
      </ul>
    </>
  );
}

function Small({
  line,
  strokes,
  held,
  look,
  onSpot,
}: {
  line: OverlayLine;
  strokes: Stroke[];
  held: Stroke | undefined;
  look: PlotLook;
  onSpot: OnSpot;
}) {
  const own = useMemo(() => {
    const mine = strokes.filter((one) => one.number === line.number);
    // Behind it, and no line that a cursor could be near to.
    return held ? [{ ...held, darkness: 0.45, kind: "reference" as const }, ...mine] : mine;
  }, [strokes, held, line.number]);
  return (
    <li className="min-w-0">
      <p className="truncate text-xs font-semibold" title={line.label}>
        {line.label}
      </p>
      <LinesPlot
        strokes={own}
        look={look}
        label={line.label}
        className="h-32"
        near={undefined}
        onSpot={(near, place) => onSpot(near === undefined ? undefined : line.number, place)}
      />
    </li>
  );
}
