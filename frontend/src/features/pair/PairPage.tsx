import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useMemo, useState } from "react";
import { Link, useLocation, useNavigate, useParams, useSearchParams } from "react-router";
import type { DecisionKind, Pair } from "../../api/client";
import { useCan } from "../../api/me";
import { Collapsible } from "../../ui/Collapsible";
import { Button, Sentence } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { kilohertz } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { type Download, reportFiles, TakeAway } from "../../ui/TakeAway";
import { DecideDialog } from "../decisions/DecideDialog";
import { StandingText } from "../decisions/StandingText";
import { UndoBar, useLastAct } from "../decisions/UndoBar";
import { setFileQuery } from "../files/queries";
import { listenAddress } from "../listening/address";
import { sidesOf } from "../listening/sidesOf";
import { Needles } from "../needles/Needles";
import { useSearch } from "../searches/queries";
import { Account } from "./Account";
import { Levels } from "./Levels";
import { MainPlot } from "./MainPlot";
import { Overview } from "./Overview";
import { audioFiles, Heard, Log, Standing, ZoomBar } from "./PairParts";
import { Places } from "./Places";
import { needled, onlyOne, PlayerBar, usePlayer } from "./player/PlayerBar";
import type { Player } from "./player/player";
import { Strongest } from "./plots/Folds";
import { type PlotName, plotsOf } from "./plots/kinds";
import { cellQuery, comparisonQuery } from "./queries";
import { Readings } from "./Readings";
import { held, middle, moved, single, type View, zoomed } from "./view";

export function CellPairPage() {
  const id = Number(useParams().cell);
  const [search] = useSearchParams();
  const beside = Number(search.get("beside")) || undefined;
  const pair = useQuery(cellQuery(id, beside));
  const { undo, act } = useLastAct({ cell_id: id });
  if (pair.isPending) return <Loading what="the pair" />;
  if (!pair.data) return <Failed error={pair.error} onRetry={() => pair.refetch()} />;
  const { cell } = pair.data;
  if (!cell) return null;
  const { condition } = cell;
  return (
    <>
      <Stale error={pair.error} />
      <UndoBar act={act} onUndo={undo} />
      <PairView
        key={`${id}/${beside}`}
        pair={pair.data}
        onUndo={undo}
        sentence={
          <Sentence>
            <b className="font-semibold">{cell.signal}</b> through{" "}
            <b className="font-semibold">{cell.setting}</b> in{" "}
            <b className="font-semibold">
              {condition.host} {condition.host_version}, {condition.mode}
              {condition.hosting && `, ${condition.hosting}`}, {kilohertz(condition.rate)} kHz
            </b>
            :{" "}
            <Link
              to={`/runs/${cell.run_id}?cell=${cell.cell_id}`}
              className="border-b-2 border-line font-semibold hover:border-quiet"
            >
              {cell.effect} {cell.version}
            </Link>
            {cell.beside ? (
              <>
                {" "}
                against <b className="font-semibold">{cell.beside}</b>
              </>
            ) : cell.reference_version ? (
              <>
                {" "}
                against <b className="font-semibold">the reference of {cell.reference_version}</b>
              </>
            ) : pair.data.reference ? (
              <>
                {" "}
                against <b className="font-semibold">the signal itself</b>
              </>
            ) : (
              ", which has no reference"
            )}
            .
          </Sentence>
        }
      />
    </>
  );
}

export function FilesPairPage() {
  const id = Number(useParams().comparison);
  const pair = useQuery(comparisonQuery(id));
  if (pair.isPending) return <Loading what="the comparison" />;
  if (!pair.data) return <Failed error={pair.error} onRetry={() => pair.refetch()} />;
  const { data } = pair;
  return (
    <>
      <Stale error={pair.error} />
      <PairView
        key={id}
        pair={data}
        sentence={
          <Sentence>
            <b className="font-semibold break-all">{data.render?.name}</b> against{" "}
            <b className="font-semibold break-all">{data.reference?.name}</b>.
          </Sentence>
        }
      />
    </>
  );
}

/** One file of a set that was compared with none: what it is by itself. */
export function FilePage() {
  const { set, file } = useParams();
  const pair = useQuery(setFileQuery(Number(set), Number(file)));
  if (pair.isPending) return <Loading what="the file" />;
  if (!pair.data) return <Failed error={pair.error} onRetry={() => pair.refetch()} />;
  return (
    <>
      <Stale error={pair.error} />
      <PairView
        key={file}
        pair={pair.data}
        back={`/files/${set}`}
        sentence={
          <Sentence>
            <b className="font-semibold break-all">{pair.data.render?.name}</b> by itself.
          </Sentence>
        }
      />
    </>
  );
}

function PairView({
  pair: found,
  sentence,
  onUndo,
  back = "/files",
}: {
  pair: Pair;
  sentence: ReactNode;
  onUndo?: () => void;
  back?: string;
}) {
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const [deciding, setDeciding] = useState<DecisionKind>();
  const withSignal = search.has("signal");
  const pair = useMemo(() => (withSignal ? found : { ...found, signal: null }), [found, withSignal]);
  const side = pair.reference ?? pair.render;
  const frames = side?.frames ?? 1;
  const rate = side?.rate ?? 48000;
  const view = held(
    { start: Number(search.get("from") ?? 0), stop: Number(search.get("to") ?? frames) || frames },
    frames,
  );
  const player = usePlayer(pair);
  const [playing, setPlaying] = useState(false);
  const firstBuild = useSearch();
  const { cell } = pair;
  const works = useCan("work");
  const keeps = useCan("keep");
  const canApprove = keeps && cell !== null && !cell.unfit && cell.beside === null && pair.render !== null;
  const setView = (wanted: View) => {
    const next = held(wanted, frames);
    const whole = next.start === 0 && next.stop === frames;
    setSearch(
      (before) => {
        before.delete("from");
        before.delete("to");
        if (!whole) {
          before.set("from", String(next.start));
          before.set("to", String(next.stop));
        }
        return before;
      },
      { replace: true },
    );
  };
  const plots = useMemo(() => plotsOf(pair), [pair]);
  const asked = search.get("plot") as PlotName | null;
  const chosen = asked && plots.names.includes(asked) ? asked : plots.first;
  const beside = pair.reference_readings.length > 0;
  const choose = (name: PlotName) =>
    setSearch(
      (before) => {
        if (name === plots.first) before.delete("plot");
        else before.set("plot", name);
        return before;
      },
      { replace: true },
    );
  const showSignal = (on: boolean) =>
    setSearch(
      (before) => {
        if (on && found.signal) before.set("signal", "1");
        else before.delete("signal");
        return before;
      },
      { replace: true },
    );
  const drawn = { pair, frames, rate, view, player, onView: setView };
  const about = () => player?.position() ?? middle(view);
  const subject = useLocation().pathname.slice(1);
  const report = reportOf(pair, subject);
  const sides = sidesOf(found);
  const listen = () => sides.length > 0 && navigate(listenAddress(sides, subject));
  useKeys({
    i: () => setView(zoomed(view, 0.5, about(), frames)),
    o: () => setView(zoomed(view, 2, about(), frames)),
    ArrowLeft: () => setView(moved(view, -0.25, frames)),
    ArrowRight: () => setView(moved(view, 0.25, frames)),
    s: () => setView(single(about(), frames)),
    w: () => setView({ start: 0, stop: frames }),
    ".": () => cell?.next_cell && navigate(`/cells/${cell.next_cell}`),
    ",": () => cell?.previous_cell && navigate(`/cells/${cell.previous_cell}`),
    a: () => canApprove && setDeciding("reference"),
    d: () => works && cell && setDeciding("fault"),
    j: listen,
    u: () => onUndo?.(),
    Escape: () => navigate(cell ? `/runs/${cell.run_id}?cell=${cell.cell_id}` : back),
  });
  return (
    <>
      <div className="flex min-h-0 flex-1 flex-col overflow-auto lg:overflow-hidden">
        <div className="px-5 pt-2 pb-1">{sentence}</div>
        <div
          className={`grid min-h-0 flex-1 gap-x-7 pl-5 ${(side?.channels ?? 1) > 1 ? "lg:grid-cols-[minmax(0,1fr)_27rem]" : "lg:grid-cols-[minmax(0,1fr)_24rem]"}`}
        >
          <div className="flex min-h-0 min-w-0 flex-col pr-5 lg:overflow-auto lg:pr-0">
            {side ? (
              <>
                <Overview {...drawn} />
                <ZoomBar
                  view={view}
                  frames={frames}
                  rate={rate}
                  onView={setView}
                  signal={found.signal ? withSignal : undefined}
                  onSignal={showSignal}
                />
                <MainPlot {...drawn} names={plots.names} chosen={chosen} onChoose={choose} />
              </>
            ) : (
              <p role="status" className="py-8 text-quiet">
                {pair.state === "failed" ? pair.why : "Not rendered yet. It appears here as soon as it is."}
              </p>
            )}
          </div>
          <aside aria-label="Readings" className="min-h-0 min-w-0 pr-5 pb-5 lg:overflow-auto">
            <Standing pair={pair} />
            {cell && pair.verdict !== null && pair.verdict !== "Pass" && pair.verdict !== "Waiting" && (
              <div className="mb-4">
                <Button
                  small
                  needs="work"
                  disabled={firstBuild.isPending}
                  onClick={() =>
                    firstBuild.mutate(cell.cell_id, { onSuccess: (made) => navigate(`/searches/${made.id}`) })
                  }
                >
                  First build that differs
                </Button>
                {firstBuild.error && (
                  <p role="alert" className="mt-1">
                    {firstBuild.error.message}
                  </p>
                )}
              </div>
            )}
            {cell && (
              <p className="mb-4">
                <Link to={`/overlay?builds=${cell.cell_id}`} className="underline">
                  Its curves over the builds
                </Link>
              </p>
            )}
            {cell?.decision && (
              <p className="mb-4 border-l-[3px] border-quiet pl-3 leading-5">
                <StandingText standing={cell.decision} />
              </p>
            )}
            <Account pair={pair} />
            {chosen === "lines" && <Strongest pair={pair} />}
            <Places pair={pair} rate={rate} onView={setView} />
            <Heard subject={subject} />
            <Readings readings={pair.readings} channels={side?.channels ?? 1} of="render" beside={beside} />
            <Levels pair={pair} />
            {(side?.channels ?? 1) > 1 && beside && (
              <Collapsible strong className="mb-4" title="Levels of each channel">
                <Readings readings={pair.readings} channels={side?.channels ?? 1} of="levels" />
                <Readings readings={pair.reference_readings} channels={side?.channels ?? 1} of="reference" />
              </Collapsible>
            )}
            <TakeAway what="the report and the audio" files={[...report, ...audioFiles(pair)]} />
            {cell?.log && <Log text={cell.log} />}
          </aside>
        </div>
      </div>
      {playing && player && (
        <div className="shrink-0 border-t border-line bg-sheet px-5 py-1">
          <Needles sides={needled(pair)} seconds={() => secondsOf(player, rate)} playing />
        </div>
      )}
      <footer className="flex h-[4.5rem] shrink-0 items-center gap-2 border-t xl:gap-3 border-line bg-sheet px-5">
        {player ? (
          <PlayerBar
            key={pair.difference?.address ?? side?.address}
            pair={pair}
            player={player}
            view={view}
            frames={frames}
            onSignal={showSignal}
            onPlaying={setPlaying}
          />
        ) : (
          <p className="text-quiet">
            {pair.render?.dropped_at ? onlyOne(pair) : "There is nothing to listen to yet."}
          </p>
        )}
        <div className="ml-auto flex items-center gap-2">
          <Button hint="J" onClick={listen} disabled={sides.length === 0}>
            Listen
          </Button>
          {cell && (
            <>
              <Button hint="D" needs="work" onClick={() => setDeciding("fault")}>
                Decide
              </Button>
              <Button
                look="main"
                hint="A"
                needs="keep"
                disabled={!canApprove}
                onClick={() => setDeciding("reference")}
              >
                Approve
              </Button>
            </>
          )}
        </div>
      </footer>
      {deciding && cell && (
        <DecideDialog
          cells={[cell.cell_id]}
          first={deciding}
          seen={cell.latest_act}
          what={`The render of ${cell.effect} ${cell.version}`}
          onClose={() => setDeciding(undefined)}
          onDone={() => {}}
        />
      )}
    </>
  );
}

/** The report of what is shown; none of a cell beside another one, or of a file that stands in a set. */
function reportOf(pair: Pair, subject: string): Download[] {
  if (pair.cell)
    return pair.cell.beside ? [] : reportFiles("The report", `/api/reports/cells/${pair.cell.cell_id}`);
  const [kind, number] = subject.split("/");
  return kind === "comparisons" ? reportFiles("The report", `/api/reports/pairs/${number}`) : [];
}

/** What sounds now, in seconds of the file. */
function secondsOf(player: Player, rate: number): number | undefined {
  const frame = player.position();
  return frame === undefined ? undefined : frame / rate;
}
