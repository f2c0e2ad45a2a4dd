import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { count, dateTime, day } from "../../ui/numbers";
import { Stale } from "../../ui/states";
import { reportFiles, TakeAway } from "../../ui/TakeAway";
import { Bar } from "../runs/Bar";
import { overviewQuery } from "./queries";

type Effect = Schemas["EffectStandingBody"];
type Standing = Schemas["PlanStandingBody"];

/** The status of all effects: what is out of date first, then a row an effect, with its newest build by plan. */
export function Overview() {
  const overview = useQuery(overviewQuery);
  if (!overview.data) return <Stale error={overview.error} />;
  const { effects, old } = overview.data;
  const ran = effects.filter((one) => one.plans.length > 0);
  if (ran.length === 0) return null;
  return (
    <section aria-label="Status of all effects">
      {old.length > 0 && (
        <ul aria-label="Out of date" className="border-t border-line px-5 py-2 text-quiet">
          {old.map((one) => (
            <li key={one.text}>
              <Link to={wayOf(one)} className="underline decoration-line hover:decoration-text">
                {one.text}
              </Link>
            </li>
          ))}
        </ul>
      )}
      <ul aria-label="Each effect, its newest build by plan" className="border-t border-line">
        {ran.map((one) => (
          <EffectRow key={one.effect_id} standing={one} />
        ))}
      </ul>
    </section>
  );
}

function wayOf({ kind, run_id, plan_id }: Schemas["OldBody"]): string {
  if (run_id !== null) return `/runs/${run_id}`;
  if (plan_id !== null) return `/?plan=${plan_id}`;
  return kind === "machine" ? "/hosts" : "/storage";
}

function EffectRow({ standing: { effect, latest, plans } }: { standing: Effect }) {
  return (
    <li className="grid grid-cols-[27%_minmax(0,1fr)] border-t border-line bg-sheet first:border-t-0">
      <div className="flex flex-wrap content-start items-baseline gap-x-3 py-2 pr-3 pl-5">
        <span className="text-base font-semibold">
          <Link to={`/effects?effect=${encodeURIComponent(effect)}`} className="hover:underline">
            {effect}
          </Link>{" "}
          {latest?.version}
        </span>
        {latest && (
          <span className="text-quiet">
            <TakeAway
              what={`of ${effect} ${latest.version}`}
              label="Release report…"
              files={reportFiles("Every plan on it", `/api/reports/builds/${latest.id}`)}
            />
          </span>
        )}
      </div>
      <ul className="py-1.5 pr-5">
        {plans.map((plan) => (
          <PlanRow key={plan.plan_id} plan={plan} latest={latest?.version} />
        ))}
      </ul>
    </li>
  );
}

function PlanRow({ plan, latest }: { plan: Standing; latest: string | undefined }) {
  return (
    <li className="grid grid-cols-[minmax(9rem,30%)_5rem_minmax(0,1fr)_auto] items-baseline gap-x-4 py-1">
      <Link to={`/runs/${plan.run_id}`} className="truncate font-semibold hover:underline" title={plan.plan}>
        {plan.plan}
      </Link>
      <Bar verdicts={plan.verdicts} cells={plan.cells} className="h-2.5" />
      <span className={plan.needs_you > 0 ? "" : "text-quiet"}>
        <Words plan={plan} />
      </span>
      <span className="whitespace-nowrap text-quiet">
        {plan.version !== latest && `${plan.version}, `}
        {dateTime(plan.requested_at)}
      </span>
    </li>
  );
}

/** What fails, what of it is new, what waits for people or machines, and what is waived until when. */
function Words({ plan }: { plan: Standing }) {
  const { failed, no_reading } = plan.verdicts;
  const waits = plan.cells - plan.finished;
  const trouble = failed + no_reading;
  return (
    <>
      {plan.needs_you > 0 && (
        <b className={failed > 0 ? "font-semibold text-difference" : "font-semibold"}>
          {count(plan.needs_you, "cell")} {plan.needs_you === 1 ? "needs" : "need"} review
        </b>
      )}
      {plan.needs_you === 0 && waits === 0 && (trouble === 0 ? "passes" : "passes or is decided")}
      {[
        trouble > 0 && trouble !== plan.needs_you && `${trouble} ${trouble === 1 ? "fails" : "fail"}`,
        plan.new !== null && plan.new > 0 && `${plan.new} new since ${plan.before}`,
        plan.waived > 0 && `${plan.waived} waived until ${day(plan.waived_until ?? "")}`,
        waits > 0 && `${waits} under way`,
      ]
        .filter(Boolean)
        .map((words) => `, ${words}`)
        .join("")}
    </>
  );
}
