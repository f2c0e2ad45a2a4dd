import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import type { NewRun, Plan, Run } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Button, EveryWord, Sentence, Word } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { count, dateTime, duration, number } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { ACTIONS, column, Table } from "../../ui/Table";
import { inBothForms, TakeAway } from "../../ui/TakeAway";
import { Overview } from "../overview/Overview";
import { plansQuery } from "../plans/queries";
import { ThingMenu } from "../upkeep/ThingMenu";
import { Bar } from "./Bar";
import { FirstSteps } from "./FirstSteps";
import { runsQuery, useStartRun } from "./queries";

export function RunsPage() {
  const [search, setSearch] = useSearchParams();
  const effect = search.get("effect") ?? "";
  const text = search.get("text") ?? "";
  const archived = search.get("archived") ?? "";
  const runs = useInfiniteQuery(runsQuery(effect, text, archived !== ""));
  const put = (part: { effect?: string; text?: string; archived?: string }) => {
    const kept = Object.entries({ effect, text, archived, ...part }).filter(([, value]) => value);
    setSearch(Object.fromEntries(kept), { replace: true });
  };
  const plans = useQuery(plansQuery);
  const asked = Number(search.get("plan")) || undefined;
  // A plan that was only just saved may not be in the list yet: another must not stand in its place to be started.
  const isAwaited =
    asked !== undefined && plans.isFetching && !plans.data?.plans.some((one) => one.id === asked);
  if (runs.isPending) return <Loading what="the runs" />;
  if (!runs.data) return <Failed error={runs.error} onRetry={() => runs.refetch()} />;
  const shown = runs.data.pages.flatMap((page) => page.runs);
  const effects = runs.data.pages[0]?.effects ?? [];
  const asQuery = `?${new URLSearchParams({ ...(effect && { effect }), text, archived: String(archived !== "") })}`;
  return (
    <div className="overflow-auto">
      <Stale error={runs.error} />
      <div className="flex min-h-[66px] flex-wrap items-center gap-4 px-5 pt-4 pb-3">
        {plans.data && !isAwaited && (
          <StartRun plans={plans.data.plans} latest={asked ?? shown[0]?.plan_id} />
        )}
      </div>
      <Overview />
      {effects.length > 0 && (
        <div className="flex items-center gap-4 border-t border-line px-5 py-2 text-quiet">
          <p className="mr-auto">
            {runs.hasNextPage && "The latest "}
            {count(shown.length, archived ? "archived run" : "run")} of{" "}
            <EveryWord
              name="Effect"
              value={effect}
              every="every effect"
              names={effects}
              onChoose={(value) => put({ effect: value })}
            />
            , newest first.
          </p>
          <Check
            label="Archived"
            checked={archived !== ""}
            onChange={(on) => put({ archived: on ? "1" : "" })}
          />
          <input
            type="search"
            aria-label="Search runs"
            placeholder="plan, build, who asked"
            value={text}
            maxLength={200}
            onChange={(event) => put({ text: event.target.value })}
            className={`h-8 w-60 ${FIELD}`}
          />
          <TakeAway what="the list of runs" files={inBothForms("These runs", "/api/tables/runs", asQuery)} />
        </div>
      )}
      {effects.length === 0 ? (
        plans.data && <FirstSteps plans={plans.data.plans} />
      ) : shown.length > 0 ? (
        <RunTable runs={shown} />
      ) : (
        <p className="border-t border-line px-5 py-6 text-quiet">
          {text ? "No matching runs." : archived ? "No run is archived." : "All runs are archived."}
        </p>
      )}
      {runs.hasNextPage && (
        <p className="border-t border-line px-5 py-3">
          <Button onClick={() => runs.fetchNextPage()} disabled={runs.isFetchingNextPage}>
            Show older runs
          </Button>
        </p>
      )}
    </div>
  );
}

/** Asks for a run, first of the plan that was run last. */
function StartRun({ plans: all, latest }: { plans: Plan[]; latest: number | undefined }) {
  const plans = all
    .filter((one) => !one.archived)
    .map((one) => ({ ...one, builds: one.builds.filter((build) => !build.archived) }));
  const navigate = useNavigate();
  const start = useStartRun();
  const [planId, setPlanId] = useState(latest ?? plans[0]?.id);
  const plan = plans.find((one) => one.id === planId) ?? plans[0];
  const [buildId, setBuildId] = useState<number>();
  const [render, setRender] = useState<NewRun["render"]>("what changed");
  const build = plan?.builds.find((one) => one.id === buildId) ?? plan?.builds.at(-1);
  if (!plan) return <Sentence>No runs yet.</Sentence>;
  if (!build) return <Sentence>No build of {plan.effect} is registered yet.</Sentence>;
  const begin = () =>
    start.mutate(
      { plan_id: plan.id, build_id: build.id, render, join: false, artefact: "" },
      { onSuccess: (run) => navigate(`/runs/${run.id}`) },
    );
  return (
    <>
      <Sentence>
        Run{" "}
        <Word
          name="Plan"
          value={String(plan.id)}
          choices={plans.map((one) => ({ value: String(one.id), label: one.name, detail: one.effect }))}
          onChoose={(value) => {
            setPlanId(Number(value));
            setBuildId(plans.find((one) => one.id === Number(value))?.builds.at(-1)?.id);
          }}
        />{" "}
        on{" "}
        <Word
          name="Build"
          value={String(build.id)}
          choices={plan.builds.map((one) => ({
            value: String(one.id),
            label: `${plan.effect} ${one.version}`,
            detail: one.note,
          }))}
          onChoose={(value) => setBuildId(Number(value))}
        />
        , rendering{" "}
        <Word
          name="Rendering"
          value={render}
          choices={[
            { value: "what changed", label: "what changed", detail: "the rest is reused" },
            { value: "everything", label: "everything" },
          ]}
          onChoose={(value) => setRender(value === "everything" ? "everything" : "what changed")}
        />
        .
      </Sentence>
      <Button look="main" needs="work" onClick={begin} disabled={start.isPending}>
        Start {count(plan.cells, "cell")}
      </Button>
      {start.error && <p role="alert">{start.error.message}</p>}
    </>
  );
}

function RunTable({ runs }: { runs: Run[] }) {
  return (
    <Table
      roomy
      className="table-fixed"
      caption="All runs, newest first"
      columns={[
        "Build",
        column("Status", "w-[26%] xl:w-[34%]"),
        column("Needs review", "w-[9%] text-right"),
        column("Plan", "w-[18%]"),
        column("Started by", "w-36"),
        { ...ACTIONS, className: "w-14" },
      ]}
    >
      {runs.map((run) => (
        <tr key={run.id} className="hover:bg-ground">
          <td>
            <Link to={`/runs/${run.id}`} className="text-base font-semibold hover:underline">
              {run.effect} {run.build.version}
            </Link>
            <p className="text-quiet">{run.build.note}</p>
          </td>
          <td>
            <Standing run={run} />
          </td>
          <td className="text-right">
            <NeedsReview run={run} />
          </td>
          <td>
            {run.plan}
            <p className="text-quiet">
              run {run.id}, revision {run.revision}
            </p>
          </td>
          <td className="whitespace-nowrap">
            {dateTime(run.requested_at)}
            <p className="text-quiet">{run.requested_by}</p>
          </td>
          <td className="py-2! text-right">
            <ThingMenu kind="run" id={run.id} name={`run ${run.id}`} archived={run.archived} />
          </td>
        </tr>
      ))}
    </Table>
  );
}

/** One bar a run: blank where it passes, ink where it does not. */
function Standing({ run }: { run: Run }) {
  const { passed, changed, failed, no_reading, waiting } = run.verdicts;
  const words = [
    run.finished < run.cells &&
      `${run.finished} of ${run.cells} done${run.stopped_by ? ", stopped" : run.seconds_left ? `, ${duration(run.seconds_left)} left` : ""}`,
    failed && `${failed} fail`,
    no_reading && `${no_reading} without a reading`,
    changed && `${changed} changed`,
    waiting && run.finished === run.cells && `${waiting} wait for a reference`,
    passed && `${passed} pass`,
  ].filter(Boolean);
  return (
    <>
      <Bar verdicts={run.verdicts} cells={run.cells} className="mt-1 h-3" />
      <p className="mt-1 text-quiet">{words.join(", ")}</p>
      {run.since && (
        <p className="text-quiet">
          {sinceText(run.since)}{" "}
          <Link to={`/runs/${run.since.run_id}`} className="underline decoration-line hover:decoration-text">
            {run.since.version}
          </Link>
        </p>
      )}
    </>
  );
}

/** By how many more, or fewer, cells each verdict stands than in the run before. */
function sinceText({ more }: NonNullable<Run["since"]>): string {
  const words = [
    ["fail", more.failed],
    ["without a reading", more.no_reading],
    ["changed", more.changed],
    ["pass", more.passed],
  ] as const;
  const said = words
    .filter(([, by]) => by !== 0)
    .map(([what, by]) => `${number(Math.abs(by), 0)} ${by > 0 ? "more" : "fewer"} ${what}`);
  return said.length > 0 ? `${said.join(", ")} than on` : "Same counts as";
}

function NeedsReview({ run }: { run: Run }) {
  if (run.needs_you === 0)
    return <span className="text-quiet">{run.finished < run.cells ? "not yet known" : "none"}</span>;
  return (
    <span
      className={run.verdicts.failed ? "text-base font-semibold text-difference" : "text-base font-semibold"}
    >
      {run.needs_you}
    </span>
  );
}
