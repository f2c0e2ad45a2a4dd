import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Pair } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Collapsible } from "../../ui/Collapsible";
import { Button } from "../../ui/controls";
import { count, number } from "../../ui/numbers";
import type { Download } from "../../ui/TakeAway";
import { reasonText, verdictText } from "../../ui/words";
import { NoteList } from "../listening/Notes";
import { notesQuery } from "../listening/queries";
import { middle, single, type View, zoomed } from "./view";

/** What was found, in a line, before all the figures. */
export function Standing({ pair }: { pair: Pair }) {
  const working = pair.state !== "done" && pair.state !== "failed";
  if (working)
    return (
      <p role="status" className="pb-4">
        <b className="font-semibold">{pair.state === "analysing" ? "Being measured." : "Being rendered."}</b>{" "}
        {pair.why ? `${pair.why}.` : "It appears here by itself."}
      </p>
    );
  const residual = pair.readings.find((one) => one.measure === "residual_rms" && one.channel === "all");
  const same = pair.readings.some((one) => one.measure === "identical" && one.value === 1);
  const own = same
    ? "The two are identical, sample by sample."
    : residual?.value != null
      ? `The residual stands at ${number(residual.value, 1)} dBFS.`
      : (residual?.why ?? pair.why);
  const reason = pair.verdict ? reasonText({ ...pair, verdict: pair.verdict }) : pair.why;
  return (
    <p className="pb-4 text-base leading-6">
      {pair.verdict && (
        <b className={`font-semibold ${pair.verdict === "Fail" ? "text-difference" : ""}`}>
          {verdictText(pair.verdict)}.{" "}
        </b>
      )}
      {pair.kind === "cell" ? reason && `${reason}.` : pair.state === "failed" ? pair.why : own}
    </p>
  );
}

/** The audio of a pair as files, each with a name that says what it is. */
export function audioFiles(pair: Pair): Download[] {
  const sides = {
    Reference: pair.reference,
    Render: pair.render,
    Difference: pair.difference,
    Signal: pair.signal,
  };
  return Object.entries(sides).flatMap(([label, side]) => {
    if (!side || side.dropped_at) return [];
    const name = [label.toLowerCase(), pair.cell?.cell_id ?? "", label === "Difference" ? "" : side.name]
      .filter(Boolean)
      .join(" ");
    return ["wav", ...(side.flac ? ["flac"] : [])].map((form) => ({
      label: `${label}, ${form.toUpperCase()}`,
      path: `/api/audio/${side.address}/file?${new URLSearchParams({ name, form })}`,
    }));
  });
}

/** What the renderer printed, or how a render that came back by hand was known. */
export function Log({ text }: { text: string }) {
  return (
    <Collapsible strong className="mt-4 border-t border-line pt-3" title="Render log">
      <pre className="mt-2 max-h-60 overflow-auto rounded border border-line bg-sheet p-2 text-xs whitespace-pre-wrap">
        {text}
      </pre>
    </Collapsible>
  );
}

export function ZoomBar(props: {
  view: View;
  frames: number;
  rate: number;
  onView: (view: View) => void;
  /** Whether the signal that went in is shown; undefined where nobody knows it. */
  signal: boolean | undefined;
  onSignal: (on: boolean) => void;
}) {
  const { view, frames, rate, onView, signal, onSignal } = props;
  const length = view.stop - view.start;
  const span = length < rate / 20 ? `${number(length, 0)} samples` : `${number(length / rate, 3)} s`;
  return (
    <div className="flex flex-wrap items-center gap-2 pb-1 pl-[7.5rem] text-xs text-quiet">
      <span className="mr-auto whitespace-nowrap">
        {span} shown{length === frames ? ", the whole file" : ""}.
        <span className="hidden 2xl:inline"> Drag or turn the wheel to zoom.</span>
      </span>
      {signal !== undefined && <Check label="show the signal" checked={signal} onChange={onSignal} />}
      <Button hint="I" small onClick={() => onView(zoomed(view, 0.5, middle(view), frames))}>
        Zoom in
      </Button>
      <Button hint="O" small onClick={() => onView(zoomed(view, 2, middle(view), frames))}>
        Zoom out
      </Button>
      <Button hint="S" small onClick={() => onView(single(middle(view), frames))}>
        Samples
      </Button>
      <Button hint="W" small onClick={() => onView({ start: 0, stop: frames })}>
        Whole
      </Button>
    </div>
  );
}

/** What people noted while they listened to the pair; nothing where nobody did. */
export function Heard({ subject }: { subject: string }) {
  const notes = useQuery(notesQuery(subject));
  const tests = notes.data?.tests ?? [];
  if (!notes.data || notes.data.notes.length + tests.length === 0) return null;
  return (
    <section aria-label="Listening notes" className="mb-4">
      <h2 className="pb-1 font-semibold">Listening notes</h2>
      {notes.data.notes.length > 0 && <NoteList subject={subject} />}
      {tests.map((test) => (
        <p key={test.id} className="pt-1.5 leading-5">
          <Link to={`/listen/tests/${test.id}`} className="underline">
            {test.name}
          </Link>
          <span className="block text-xs text-quiet">
            Listening test, {count(test.sittings, "sitting")}
            {test.under_way > 0 && `, ${test.under_way} under way`}
          </span>
        </p>
      ))}
    </section>
  );
}
