import { useQuery } from "@tanstack/react-query";
import { memo, useState } from "react";
import { Link } from "react-router";
import type { RunChange, Sheet } from "../../api/client";
import { Button } from "../../ui/controls";
import { count, duration } from "../../ui/numbers";
import { ToggleGroup, ToggleItem } from "../../ui/ToggleGroup";
import { runSensitivityQuery, useChangeRun, useRenderAgain } from "./queries";

interface Props {
  sheet: Sheet;
  /** Laid over something other than its references. */
  across: boolean;
  only: string;
  onPut: (changes: Record<string, string>) => void;
}

/** What its plan notices of planted faults, where that is known, and the way to finding it out. */
function Noticed({ run }: { run: Sheet["run"] }) {
  const known = useQuery(runSensitivityQuery(run.id));
  return (
    <p>
      {known.data?.summary}{" "}
      <Link
        to={`/plans/${run.plan_id}?show=sensitivity`}
        className="underline decoration-line hover:decoration-text"
      >
        {known.data?.summary ? "What would it miss?" : "What would this plan miss?"}
      </Link>
    </p>
  );
}

/** How far the run is, what changed since the build before, and what can be done about the run. */
export const RunState = memo(function RunState({ sheet, across, only, onPut }: Props) {
  const change = useChangeRun(sheet.run.id);
  const again = useRenderAgain();
  const [asked, setAsked] = useState(false);
  const { run, cells, before } = sheet;
  const ask = (what: RunChange) => change.mutate(what);
  const running = run.finished < run.cells;
  const failed = cells.filter((cell) => cell.state === "failed").map((cell) => cell.id);
  const troubled = cells.filter((cell) => cell.needs_you).length;
  const comparing = cells.filter((cell) => cell.state === "analysing").length;
  const reused = cells.filter((cell) => cell.reused).length;
  const changes = (["new", "still", "fixed"] as const)
    .map((kind) => ({ kind, cells: cells.filter((cell) => cell.change === kind).length }))
    .filter((one) => one.cells > 0);
  return (
    <div className="flex flex-wrap items-center gap-x-4 gap-y-1 px-5 pb-2 text-quiet">
      <p role="status">
        {running
          ? `${run.finished} of ${run.cells} done${run.stopped_by ? `, stopped by ${run.stopped_by}` : run.seconds_left === null ? "" : `, ${duration(run.seconds_left)} left`}`
          : across
            ? comparing > 0
              ? `${comparing} of ${count(cells.length, "pair")} still to be compared`
              : `${troubled} of ${count(cells.length, "cell")} ${troubled === 1 ? "differs" : "differ"}`
            : troubled > 0
              ? `${troubled} of ${count(cells.length, "cell")} ${troubled === 1 ? "needs" : "need"} review`
              : cells.every((cell) => cell.verdict === "Pass")
                ? `All ${cells.length} cells pass`
                : `All ${cells.length} cells pass or are decided`}
      </p>
      {Object.entries(sheet.lacking).map(([host, n]) => (
        <p key={host}>
          {count(n, "cell")} wait in {host}: no machine that is known has {run.effect} {run.build.version}{" "}
          there
        </p>
      ))}
      {before && changes.length > 0 && (
        <ToggleGroup
          name="Changed since then"
          value={only || undefined}
          onChoose={(kind) => onPut({ only: kind ?? "" })}
          mayBeNone
        >
          {changes.map(({ kind, cells: n }, i) => (
            <span key={kind}>
              {i > 0 && ", "}
              <ToggleItem
                value={kind}
                className={`underline decoration-line hover:decoration-text ${only === kind ? "font-semibold text-text" : ""}`}
              >
                {n} {CHANGED[kind]}
              </ToggleItem>
            </span>
          ))}{" "}
          since {before.version}
        </ToggleGroup>
      )}
      {!running && !across && <Noticed run={run} />}
      {reused > 0 && (
        <p>{count(reused, "render")} reused from earlier runs: nothing they depend on has changed</p>
      )}
      <div className="ml-auto flex items-center gap-2">
        {change.error && <p role="alert">{change.error.message}</p>}
        {again.error && <p role="alert">{again.error.message}</p>}
        {running && !run.stopped_by && (
          <>
            <Button small needs="work" onClick={() => ask("put first")} disabled={change.isPending}>
              Render this first
            </Button>
            <Button small needs="work" onClick={() => ask("stop")} disabled={change.isPending}>
              Stop
            </Button>
          </>
        )}
        {run.stopped_by && (
          <Button small needs="work" onClick={() => ask("resume")} disabled={change.isPending}>
            Resume
          </Button>
        )}
        {failed.length > 0 && !run.stopped_by && (
          <Button small needs="work" disabled={again.isPending} onClick={() => again.mutate(failed)}>
            Render {count(failed.length, "failed cell")} again
          </Button>
        )}
        {!running && !asked && (
          <Button small needs="work" onClick={() => setAsked(true)}>
            Render all again
          </Button>
        )}
        {!running && asked && (
          <>
            <span>Their verdicts are gone until then.</span>
            <Button
              small
              onClick={() => {
                setAsked(false);
                again.mutate(cells.map((cell) => cell.id));
              }}
            >
              Render {count(cells.length, "cell")} again
            </Button>
            <Button small onClick={() => setAsked(false)}>
              Cancel
            </Button>
          </>
        )}
      </div>
    </div>
  );
});

const CHANGED = { new: "newly failing", still: "still failing", fixed: "fixed" };
