import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { MOST_SIDES } from "../../api/limits.gen";
import { Button, type Choice, Sentence, Word } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { number } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { Failed, Loading } from "../../ui/states";
import { ToggleGroup } from "../../ui/ToggleGroup";
import { type Needled, Needles } from "../needles/Needles";
import { type Asked, writePlace } from "./address";
import { BandFields, BandWord } from "./BandWord";
import { BlindForm } from "./BlindForm";
import type { Band } from "./band";
import { ROUTES, type Route } from "./looper";
import { Notes } from "./Notes";
import { PassageStrip } from "./PassageStrip";
import { recalled, remember } from "./place";
import { clipsQuery, type HeardSide, type Listening, sidesQuery } from "./queries";
import { AddLossy, SideCard } from "./Sides";
import { useLooper } from "./useLooper";

const ALIGNS: Choice[] = [
  { value: "whole", label: "aligned to the sample" },
  { value: "fraction", label: "aligned to a fraction of a sample" },
  { value: "as rendered", label: "not aligned" },
];
const LEVELS: Choice[] = [
  { value: "loudness_integrated", label: "matched in loudness" },
  { value: "rms", label: "matched in RMS level" },
  { value: "vu_max", label: "matched in VU maximum" },
  { value: "sample_peak", label: "matched in sample peak" },
  { value: "true_peak", label: "matched in true peak" },
  { value: "none", label: "levels as rendered" },
];
const PASSAGES: Choice[] = [
  { value: "loudest", label: "the loudest 3 s" },
  { value: "quietest", label: "the quietest 3 s" },
  { value: "differs most", label: "the 3 s where they differ most" },
  { value: "first event", label: "the first event" },
  { value: "whole", label: "all of it, up to 10 s" },
];
const OWN = "own";
const ROUTE_NAMES: Record<Route, string> = {
  both: "both channels",
  first: "first channel",
  second: "second channel",
  middle: "middle",
  sides: "side",
  swapped: "swapped",
};
const STEP = 3; // dB of the difference's own gain

export function ListenPage() {
  const [search, setSearch] = useSearchParams();
  const { asked, subject } = useMemo(() => recalled(search), [search]);
  const heard = useQuery(sidesQuery(asked));
  const put = (change: Partial<Asked>) => {
    if ("passage" in change) remember(subject, change);
    setSearch(writePlace({ asked: { ...asked, ...change }, subject }), { replace: true });
  };
  // What was asked for last may be refused: the words that ask stay where they are.
  const [good, setGood] = useState<Listening>();
  useEffect(() => setGood((before) => heard.data ?? before), [heard.data]);
  const shown = heard.data ?? good;
  if (asked.sides.length === 0)
    return (
      <p className="px-5 py-8 text-quiet">
        Nothing was chosen to listen to. Open a pair, mark cells of a sheet or files of a set, and press J.
      </p>
    );
  if (!shown && heard.error) return <Failed error={heard.error} onRetry={() => heard.refetch()} />;
  if (!shown) return <Loading what="the sides, lined up and at one level" />;
  return (
    <Open
      asked={asked}
      subject={subject}
      heard={shown}
      finding={heard.isFetching}
      refused={heard.error}
      onChange={put}
    />
  );
}

function Open({
  asked,
  subject,
  heard,
  finding,
  refused,
  onChange,
}: {
  asked: Asked;
  subject: string;
  heard: Listening;
  finding: boolean;
  /** Why what is asked for is not what is heard. */
  refused: Error | null;
  onChange: (change: Partial<Asked>) => void;
}) {
  const clips = useQuery(clipsQuery(heard, { low: asked.low, high: asked.high }));
  const [side, setSide] = useState(0);
  const [matched, setMatched] = useState(true);
  const [route, setRoute] = useState<Route>("both");
  const [louder, setLouder] = useState(0);
  const [blind, setBlind] = useState(false);
  const [typing, setTyping] = useState(false);
  const most = mostLouder(heard);
  const looper = useLooper(heard.rate, heard.channels, clips.data);
  const chosen = Math.min(side, heard.sides.length - 1);
  useEffect(() => looper?.listenTo(chosen), [looper, chosen]);
  useEffect(() => looper?.setRoute(route), [looper, route]);
  useEffect(
    () => looper?.setGains(heard.sides.map((one) => gainOf(one, matched, louder))),
    [looper, heard, matched, louder],
  );
  const toggle = () => (looper?.playing ? looper.stop() : void looper?.play());
  const turn = (by: number) => setSide((chosen + by + heard.sides.length) % heard.sides.length);
  const turnUp = (by: number) => setLouder((now) => Math.max(0, Math.min(most, now + by)));
  useKeys({
    " ": toggle,
    ...Object.fromEntries(heard.sides.map((_, i) => [String(i + 1), () => setSide(i)])),
    n: () => turn(1),
    p: () => turn(-1),
    m: () => setMatched((on) => !on),
    "+": () => turnUp(STEP),
    "-": () => turnUp(-STEP),
    b: () => setBlind((on) => !on),
  });
  const seconds = (frame: number) => frame / heard.rate;
  const passages = asked.passage === null ? [...PASSAGES, { value: OWN, label: span(heard) }] : PASSAGES;
  const band: Band | null = asked.low != null && asked.high != null ? [asked.low, asked.high] : null;
  const hearBand = (to: Band | null) => onChange({ low: to?.[0] ?? null, high: to?.[1] ?? null });
  const canDiffer = heard.sides.length >= 2 && !heard.sides.some((one) => one.difference);
  const addDifference = () => {
    const [first, second] = asked.sides;
    if (!first || !second) return;
    onChange({
      sides: [
        ...asked.sides,
        { spec: `${second.spec}!${first.spec}`, name: `${second.name} less ${first.name}` },
      ],
    });
  };
  // What is added up, encoded, cut to a band or a difference has no needle of a file of its own.
  const whole = band === null;
  const metered = useMemo(
    () => (whole ? needled(heard, matched, chosen) : []),
    [heard, whole, matched, chosen],
  );
  const sounding = useCallback(() => {
    const share = looper?.position();
    return share === undefined ? undefined : (heard.start + share * (heard.stop - heard.start)) / heard.rate;
  }, [looper, heard]);
  const problem = refused ?? clips.error ?? (looper?.error ? new Error(looper.error) : null);
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-auto px-5 pt-3 pb-5">
      <Sentence>
        <b className="font-semibold">
          {heard.sides.length === 1 ? heard.sides[0]?.name : `${heard.sides.length} sides`}
        </b>
        ,{" "}
        <Word
          name="Delay"
          value={asked.align}
          choices={ALIGNS}
          onChoose={(align) => onChange({ align: align as Asked["align"] })}
        />
        ,{" "}
        <Word
          name="Level"
          value={asked.by}
          choices={LEVELS}
          onChoose={(by) => onChange({ by: by as Asked["by"] })}
        />
        , over{" "}
        <Word
          name="Passage"
          value={asked.passage ?? OWN}
          choices={passages}
          onChoose={(to) =>
            to !== OWN && onChange({ passage: to as NonNullable<Asked["passage"]>, start: null, end: null })
          }
        />
        , in{" "}
        <BandWord
          band={band}
          rate={heard.rate}
          onBand={(chosen) => {
            setTyping(false); // the fields would keep the band that was typed
            hearBand(chosen);
          }}
          onType={() => setTyping(true)}
        />
        .
      </Sentence>
      {typing && (
        <BandFields band={band} rate={heard.rate} onBand={hearBand} onClose={() => setTyping(false)} />
      )}
      <div className="mt-2 grid flex-1 grid-cols-1 gap-6 lg:grid-cols-[minmax(0,1fr)_20rem]">
        <div>
          {heard.sides[0] && (
            <PassageStrip
              address={heard.sides[0].parts[0]?.address ?? ""}
              frames={heard.frames}
              rate={heard.rate}
              start={heard.start}
              stop={heard.stop}
              looper={looper}
              most={heard.most_seconds}
              onPassage={(start, end) => onChange({ passage: null, start: round(start), end: round(end) })}
            />
          )}
          <p className="flex justify-between gap-4 pt-1 text-xs leading-5 text-quiet">
            <span>
              {number(seconds(heard.start), 2)} to {number(seconds(heard.stop), 2)} s of{" "}
              {heard.sides[0]?.name}, looped{heard.found && `; ${heard.found}`}. Drag to choose another
              passage.
            </span>
            <span>{finding || clips.isPending ? "Preparing…" : ""}</span>
          </p>
          <ToggleGroup
            name="Sides"
            value={String(chosen + 1)}
            onChoose={(to) => setSide(Number(to) - 1)}
            className="mt-3 grid gap-3 sm:grid-cols-2 xl:grid-cols-3"
          >
            {heard.sides.map((one, i) => (
              <SideCard
                key={one.spec}
                side={one}
                number={i + 1}
                matched={matched && asked.by !== "none"}
                louder={one.difference ? louder : 0}
                chosen={i === chosen}
              />
            ))}
          </ToggleGroup>
          {metered.length > 0 && (
            <div className="mt-4">
              <Needles sides={metered} seconds={sounding} playing={looper?.playing ?? false} />
            </div>
          )}
          {problem && (
            <p role="alert" className="flex items-center gap-3 pt-3">
              {problem.message}
              <Button small onClick={() => clips.refetch()}>
                Try again
              </Button>
            </p>
          )}
          <div className="mt-4 flex flex-wrap items-center gap-2">
            <Button
              look="main"
              hint="space"
              aria-pressed={looper?.playing ?? false}
              disabled={!clips.data}
              onClick={toggle}
              className="w-28 justify-center"
            >
              {looper?.playing ? "Stop" : "Play"}
            </Button>
            <Button hint="N" onClick={() => turn(1)} disabled={heard.sides.length < 2}>
              Next side
            </Button>
            {asked.by !== "none" && (
              <Button hint="M" aria-pressed={matched} onClick={() => setMatched(!matched)}>
                {matched ? "Levels matched" : "Levels as rendered"}
              </Button>
            )}
            {heard.channels === 2 && (
              <Select
                name="Which channels are heard"
                value={route}
                choices={(Object.keys(ROUTES) as Route[]).map((one) => ({
                  value: one,
                  label: ROUTE_NAMES[one],
                }))}
                onChoose={setRoute}
                className="h-9 rounded-md border border-quiet bg-sheet px-2"
              />
            )}
            {canDiffer && heard.sides.length < MOST_SIDES && (
              <Button onClick={addDifference}>Include the difference</Button>
            )}
            <AddLossy asked={asked} onChange={onChange} />
            {heard.sides.some((one) => one.difference) && (
              <span className="flex items-center gap-1 text-xs text-quiet">
                <Button small hint="−" disabled={louder <= 0} onClick={() => turnUp(-STEP)}>
                  Quieter
                </Button>
                <span className="w-24 text-center">
                  difference <b className="text-text">+{louder} dB</b>
                </span>
                <Button small hint="+" disabled={louder >= most} onClick={() => turnUp(STEP)}>
                  Louder
                </Button>
                <span>limited to {number(heard.safe_peak, 0)} dBFS, for your ears</span>
              </span>
            )}
          </div>
        </div>
        <aside className="grid content-start gap-5">
          {blind ? (
            <BlindForm
              asked={pinned(asked, heard)}
              heard={heard}
              subject={subject}
              onClose={() => setBlind(false)}
            />
          ) : (
            <div>
              <Button needs="work" hint="B" onClick={() => setBlind(true)} disabled={heard.sides.length < 2}>
                Listen blind…
              </Button>
              <p className="pt-2 text-xs leading-5 text-quiet">
                Two sides told apart in trials, or several graded, without knowing which is which. Alone, or
                as a panel with a day on which the result is shown.
              </p>
            </div>
          )}
          {subject && (
            <Notes
              subject={subject}
              sides={heard.sides.map((one) => one.name)}
              side={chosen}
              second={seconds(heard.start)}
            />
          )}
        </aside>
      </div>
    </div>
  );
}

/** The sides that needles are known of, played at their level. */
const needled = (heard: Listening, matched: boolean, chosen: number): Needled[] =>
  heard.sides.flatMap((side, i) => {
    const [part] = side.parts;
    if (!part || side.parts.length > 1 || side.difference || part.codec) return [];
    const ink = i === chosen ? "bg-text" : "bg-quiet";
    return [{ name: side.name, sounding: { address: part.address }, gain: gainOf(side, matched, 0), ink }];
  });

function gainOf(side: HeardSide | undefined, matched: boolean, louder: number): number {
  if (!side) return 0;
  return side.difference ? louder : matched ? side.gain : 0;
}

/** By how much a difference may be turned up before it passes what ears are to be given. */
function mostLouder(heard: Listening): number {
  const peaks = heard.sides.flatMap((one) => (one.difference && one.peak !== null ? [one.peak] : []));
  return peaks.length === 0
    ? 0
    : Math.max(0, Math.floor((heard.safe_peak - Math.max(...peaks)) / STEP) * STEP);
}

const round = (seconds: number) => Math.round(seconds * 1000) / 1000;

const span = (heard: Listening) =>
  `${number(heard.start / heard.rate, 2)} to ${number(heard.stop / heard.rate, 2)} s`;

/** The same passage as is heard now, whatever is found later. */
const pinned = (asked: Asked, heard: Listening): Asked => ({
  ...asked,
  passage: null,
  start: heard.start / heard.rate,
  end: heard.stop / heard.rate,
  snap: false,
});
