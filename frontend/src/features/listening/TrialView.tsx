import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useRef, useState } from "react";
import { Button } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { type Keys, useKeys } from "../../ui/keys";
import { number } from "../../ui/numbers";
import { ToggleGroup, ToggleItem } from "../../ui/ToggleGroup";
import type { Looper } from "./looper";
import {
  type Answer,
  heardQuery,
  type Sitting,
  type Slot,
  type Test,
  useAnswer,
  useBreakOff,
} from "./queries";
import { useLooper } from "./useLooper";

type Trial = NonNullable<Sitting["trial"]>;

const ARROWS: Record<string, string> = { First: "ArrowLeft", Second: "ArrowRight" };
const SHOWN: Record<string, string> = { ArrowLeft: "←", ArrowUp: "↑", ArrowRight: "→" };

/** One trial: what can be played, and what is asked. Which side is which is on the server until the answer is in. */
export function TrialView({ test, sitting, trial }: { test: Test; sitting: Sitting; trial: Trial }) {
  const clips = useQuery(heardQuery(trial.slots));
  const answer = useAnswer(test.id, sitting.id);
  const leave = useBreakOff(test.id, sitting.id);
  const [slot, setSlot] = useState(0);
  const switches = useRef(0);
  const began = useRef(performance.now());
  const looper = useLooper(test.rate, test.channels, clips.data);
  useEffect(() => looper?.listenTo(slot), [looper, slot]);
  const hear = (to: number) => {
    if (to !== slot) switches.current++;
    setSlot(to);
    if (looper && !looper.playing && clips.data) void looper.play();
  };
  const toggle = () => (looper?.playing ? looper.stop() : void looper?.play());
  const send = (given: Pick<Answer, "choice" | "grades" | "notes">) =>
    answer.mutate({
      ...given,
      number: trial.number,
      switches: switches.current,
      seconds: (performance.now() - began.current) / 1000,
    });
  const failed =
    clips.error ?? answer.error ?? leave.error ?? (looper?.error ? new Error(looper.error) : null);
  const asked = {
    slots: trial.slots,
    slot,
    ready: clips.data !== undefined,
    busy: answer.isPending || leave.isPending,
    onHear: hear,
    onToggle: toggle,
    play: <Played looper={looper} ready={clips.data !== undefined} onToggle={toggle} />,
  };
  return (
    <div className="grid gap-6 lg:grid-cols-[minmax(0,1fr)_18rem]">
      <div>
        {test.kind === "abx" ? (
          <Apart {...asked} onAnswer={(choice) => send({ choice, grades: null, notes: {} })} />
        ) : (
          <Grades
            {...asked}
            test={test}
            onAnswer={(grades, notes) => send({ choice: null, grades, notes })}
          />
        )}
        {failed && (
          <p role="alert" className="flex items-center gap-3 pt-4">
            {failed.message}
            {clips.error && (
              <Button small onClick={() => clips.refetch()}>
                Try again
              </Button>
            )}
          </p>
        )}
        <Track sitting={sitting} />
        <p className="pt-3 text-xs text-quiet">
          {number((test.stop - test.start) / test.rate, 2)} s, looped;{" "}
          {test.by === "none"
            ? "levels as rendered"
            : `levels matched, error at most ${number(Math.max(...test.sides.map((one) => Math.abs(one.error ?? 0))), 2)} dB`}
          .
        </p>
      </div>
      <aside className="grid content-start gap-4">
        <p>
          <span className="block text-xs text-quiet">
            {sitting.trials > 0 ? "this sitting, length set beforehand" : "this sitting"}
          </span>
          <b className="text-3xl font-bold">
            {sitting.trials > 0 ? `${sitting.answered} of ${sitting.trials}` : `${sitting.answered} so far`}
          </b>
        </p>
        {test.outlook && <p className="leading-6">{test.outlook}</p>}
        {test.kind === "abx" && (
          <p className="text-xs leading-5 text-quiet">
            Right and wrong are shown after the last answer, so that nobody stops on a lucky streak.
          </p>
        )}
        <div>
          <Button small onClick={() => leave.mutate(undefined)} disabled={asked.busy}>
            Abandon the sitting
          </Button>
          <p className="pt-1 text-xs text-quiet">
            It will be listed, and count for nothing. To go on later, just close the page.
          </p>
        </div>
      </aside>
    </div>
  );
}

interface Asked {
  slots: Slot[];
  slot: number;
  ready: boolean;
  busy: boolean;
  onHear: (slot: number) => void;
  onToggle: () => void;
  /** The button that plays. */
  play: ReactNode;
}

/** What can be heard in a trial, one of it at a time. */
function Slots({
  slot,
  onHear,
  className,
  children,
}: Pick<Asked, "slot" | "onHear"> & { className: string; children: ReactNode }) {
  return (
    <ToggleGroup
      name="Sides"
      value={String(slot)}
      onChoose={(to) => onHear(Number(to))}
      className={className}
    >
      {children}
    </ToggleGroup>
  );
}

function Apart({
  slots,
  slot,
  ready,
  busy,
  onHear,
  onToggle,
  play,
  onAnswer,
}: Asked & { onAnswer: (choice: 0 | 1) => void }) {
  const keyOf = (one: Slot) => ARROWS[one.label] ?? "ArrowUp";
  const say = (choice: 0 | 1) => !busy && ready && onAnswer(choice);
  const keys: Keys = { " ": onToggle, a: () => say(0), s: () => say(1) };
  for (const [i, one] of slots.entries()) keys[keyOf(one)] = () => onHear(i);
  useKeys(keys);
  return (
    <>
      <Slots slot={slot} onHear={onHear} className="grid grid-cols-3 gap-4">
        {slots.map((one, i) => (
          <ToggleItem
            key={one.label}
            value={String(i)}
            disabled={!ready}
            className={`grid h-36 place-content-center gap-2 rounded-lg border-2 bg-sheet text-base disabled:opacity-45 ${i === slot ? "border-text font-semibold" : "border-line hover:border-quiet"}`}
          >
            {one.label}
            <kbd className="text-center font-sans text-xs font-normal text-quiet">{SHOWN[keyOf(one)]}</kbd>
          </ToggleItem>
        ))}
      </Slots>
      <div className="flex flex-wrap items-center gap-3 pt-4">
        {play}
        <Button hint="A" disabled={!ready || busy} onClick={() => say(0)}>
          It is the first
        </Button>
        <Button hint="S" disabled={!ready || busy} onClick={() => say(1)}>
          It is the second
        </Button>
      </div>
    </>
  );
}

const WORDS: Record<string, [number, string][]> = {
  "BS.1116": [
    [5, "imperceptible"],
    [4, "perceptible, not annoying"],
    [3, "slightly annoying"],
    [2, "annoying"],
    [1, "very annoying"],
  ],
  "BS.1534": [
    [80, "excellent"],
    [60, "good"],
    [40, "fair"],
    [20, "poor"],
    [0, "bad"],
  ],
};

function Grades({
  test,
  slots,
  slot,
  ready,
  busy,
  onHear,
  onToggle,
  play,
  onAnswer,
}: Asked & {
  test: Test;
  onAnswer: (grades: Record<string, number>, notes: Record<string, string>) => void;
}) {
  const impairment = test.scale === "BS.1116";
  const [low, high, step] = impairment ? [1, 5, 0.1] : [0, 100, 1];
  const [grades, setGrades] = useState<Record<string, number>>({});
  const [notes, setNotes] = useState<Record<string, string>>({});
  const graded = slots.filter((one) => one.graded);
  const complete = graded.every((one) => grades[one.label] !== undefined);
  useKeys({
    " ": onToggle,
    ...Object.fromEntries(slots.map((_, i) => [String(i + 1), () => onHear(i)])),
  });
  const words = WORDS[test.scale ?? "BS.1534"] ?? [];
  const wordOf = (grade: number | undefined) =>
    grade === undefined
      ? "no grade yet"
      : (words.find(([from]) => (impairment ? Math.round(grade) : grade) >= from)?.[1] ?? "");
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (complete && ready && !busy)
          onAnswer(grades, Object.fromEntries(Object.entries(notes).filter(([, note]) => note)));
      }}
    >
      <Slots slot={slot} onHear={onHear} className="grid gap-2">
        {slots.map((one, i) => (
          <div
            key={one.label}
            className={`grid grid-cols-[9rem_minmax(8rem,1fr)_4.5rem_10rem_minmax(6rem,12rem)] items-center gap-3 rounded-lg border-2 bg-sheet px-3 py-2 ${i === slot ? "border-text" : "border-line"}`}
          >
            <ToggleItem value={String(i)} disabled={!ready} className="text-left disabled:opacity-45">
              <kbd className="mr-2 font-sans text-xs text-quiet">{i + 1}</kbd>
              <span className={i === slot ? "font-semibold" : ""}>{one.label}</span>
            </ToggleItem>
            {one.graded ? (
              <>
                <input
                  type="range"
                  aria-label={`Grade of ${one.label}`}
                  min={low}
                  max={high}
                  step={step}
                  value={grades[one.label] ?? low}
                  onChange={(event) => setGrades({ ...grades, [one.label]: Number(event.target.value) })}
                  className={`w-full accent-(--text) ${grades[one.label] === undefined ? "opacity-40" : ""}`}
                />
                <input
                  type="number"
                  aria-label={`Grade of ${one.label} as a number`}
                  min={low}
                  max={high}
                  step={step}
                  value={grades[one.label] ?? ""}
                  onChange={(event) => {
                    const { [one.label]: _, ...others } = grades;
                    setGrades(
                      event.target.value === ""
                        ? others
                        : { ...others, [one.label]: Number(event.target.value) },
                    );
                  }}
                  className={`h-8 ${FIELD}`}
                />
                <span className="text-xs text-quiet">{wordOf(grades[one.label])}</span>
                <input
                  aria-label={`Note on ${one.label}`}
                  placeholder="note"
                  maxLength={400}
                  value={notes[one.label] ?? ""}
                  onChange={(event) => setNotes({ ...notes, [one.label]: event.target.value })}
                  className={`h-8 min-w-0 ${FIELD}`}
                />
              </>
            ) : (
              <span className="col-span-4 text-xs text-quiet">what the others are held against</span>
            )}
          </div>
        ))}
      </Slots>
      <div className="flex flex-wrap items-center gap-3 pt-4">
        {play}
        <Button type="submit" look="main" disabled={!complete || !ready || busy}>
          Give {graded.length === 1 ? "the grade" : `these ${graded.length} grades`}
        </Button>
      </div>
    </form>
  );
}

function Played({
  looper,
  ready,
  onToggle,
}: {
  looper: Looper | undefined;
  ready: boolean;
  onToggle: () => void;
}) {
  return (
    <>
      <Button
        hint="space"
        disabled={!ready}
        aria-pressed={looper?.playing ?? false}
        onClick={onToggle}
        className="w-28 justify-center"
      >
        {looper?.playing ? "Stop" : "Play"}
      </Button>
      <span role="status" className="text-quiet">
        {ready ? "" : "Loading…"}
      </span>
    </>
  );
}

const MOST_SHOWN = 60;

/** A square for each answer that was given, a line for each that is to come. */
function Track({ sitting }: { sitting: Sitting }) {
  if (sitting.trials < 2 || sitting.trials > MOST_SHOWN)
    return <p className="pt-8 text-quiet">Trial {number(sitting.answered + 1, 0)}</p>;
  return (
    <div
      role="img"
      aria-label={`${sitting.answered} of ${sitting.trials} answers given`}
      className="flex flex-wrap gap-1.5 pt-8"
    >
      {Array.from({ length: sitting.trials }, (_, i) => (
        <span
          // biome-ignore lint/suspicious/noArrayIndexKey: a trial is its place
          key={i}
          className={`flex h-5 w-5 items-start justify-center border-b-2 ${i <= sitting.answered ? "border-text" : "border-line"}`}
        >
          {i < sitting.answered && <span className="h-3 w-3 bg-quiet" />}
        </span>
      ))}
    </div>
  );
}
