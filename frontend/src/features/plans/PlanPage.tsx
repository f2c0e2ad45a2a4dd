import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { PlanDocument, WrittenPlan } from "../../api/client";
import { measuresQuery } from "../../api/measures";
import { Button, Sentence } from "../../ui/controls";
import { count, dateTime, duration } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { Tabs } from "../../ui/Tabs";
import { effectsQuery } from "../effects/queries";
import { hostsQuery } from "../hosts/queries";
import { signalsQuery } from "../signals/queries";
import { Cases } from "./Cases";
import { Conditions } from "./Conditions";
import { bytes } from "./document";
import { Exclusions } from "./Exclusions";
import { FIELD, Section } from "./fields";
import { Limits } from "./Limits";
import { checkQuery, planQuery, templateQuery, useKeepPlan, useReadPlan } from "./queries";
import { Sensitivity } from "./Sensitivity";

const REST_MS = 350;

type View = "form" | "yaml" | "missed";

/** A plan that is kept, in its newest revision or in another. */
export function PlanPage() {
  const id = Number(useParams().plan);
  const [search] = useSearchParams();
  const revision = Number(search.get("revision")) || undefined;
  const plan = useQuery(planQuery(id, revision));
  if (plan.isPending) return <Loading what="the plan" />;
  if (!plan.data) return <Failed error={plan.error} onRetry={() => plan.refetch()} />;
  return <Editor key={`${id}/${revision}/${plan.data.revisions.length}`} written={plan.data} />;
}

/** A plan that a template makes for an effect; nothing is kept until a person keeps it. */
export function NewPlanPage() {
  const [search] = useSearchParams();
  const template = search.get("template") ?? "null";
  const effect = search.get("effect") ?? "";
  const made = useQuery(templateQuery(template, effect));
  if (made.isPending) return <Loading what="the template" />;
  if (!made.data) return <Failed error={made.error} onRetry={() => made.refetch()} />;
  return <Editor key={`${template}/${effect}`} written={made.data} />;
}

function Editor({ written }: { written: WrittenPlan }) {
  const navigate = useNavigate();
  const [search] = useSearchParams();
  const [draft, setDraft] = useState<PlanDocument>({ ...written.document, note: "" });
  const [view, setView] = useState<View>(search.get("show") === "sensitivity" ? "missed" : "form");
  const [yaml, setYaml] = useState<string>();
  const rested = useRested(draft);
  const checked = useQuery({ ...checkQuery(rested), placeholderData: keepPreviousData });
  const effects = useQuery(effectsQuery);
  const hosts = useQuery(hostsQuery);
  const signals = useQuery(signalsQuery);
  const measures = useQuery(measuresQuery);
  const keep = useKeepPlan();
  const read = useReadPlan();
  const put = (change: Partial<PlanDocument>) => setDraft((before) => ({ ...before, ...change }));
  const state = checked.error ? undefined : (checked.data ?? written);
  const effect = effects.data?.effects.find((one) => one.name === draft.effect);
  const [newest] = written.revisions;
  const isNew = state?.id == null;
  const changes = state?.differences ?? [];
  const known = measures.data?.measures ?? [];
  const text = yaml ?? state?.yaml ?? written.yaml;
  const save = () => keep.mutate(draft, { onSuccess: (kept) => navigate(`/plans/${kept.id}`) });
  return (
    <div className="flex min-h-0 flex-1 flex-col">
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 px-5 pt-3 pb-3">
        <Sentence>
          <Link to="/plans" className="border-b-2 border-line font-semibold hover:border-quiet">
            Plan
          </Link>{" "}
          <input
            aria-label="Name of the plan"
            value={draft.plan}
            maxLength={120}
            onChange={(event) => put({ plan: event.target.value })}
            className="w-72 border-b-2 border-line bg-transparent font-semibold hover:border-quiet"
          />{" "}
          of <b className="font-semibold">{draft.effect}</b>
          {newest ? `, revision ${newest.number}` : ", not kept yet"}.
        </Sentence>
        <p role="status" className="text-quiet">
          {state && cost(state)}
        </p>
        <div className="ml-auto flex items-center gap-2">
          {written.id !== null && changes.length === 0 && (
            <Link
              to={`/?plan=${written.id}`}
              className="pr-2 underline decoration-line hover:decoration-text"
            >
              Run it
            </Link>
          )}
          <Button
            look="main"
            needs="work"
            disabled={keep.isPending || !state || yaml !== undefined || (!isNew && changes.length === 0)}
            onClick={save}
          >
            {isNew ? "Save the plan" : `Save as revision ${(newest?.number ?? 0) + 1}`}
          </Button>
        </div>
      </div>
      {(checked.error ?? keep.error) && (
        <p role="alert" className="border-t border-line bg-sheet px-5 py-2">
          {(checked.error ?? keep.error)?.message}
        </p>
      )}
      {state && state.unrenderable.length > 0 && (
        <p role="status" className="border-t border-line bg-sheet px-5 py-2">
          No known machine can render {draft.effect} in {state.unrenderable.join(", ")}: those cells would
          wait.
        </p>
      )}
      {/* What is changed while it is kept would be lost with this form. */}
      <div
        inert={keep.isPending || keep.isSuccess}
        className="grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_17rem] border-t border-line"
      >
        <Tabs
          name="The plan"
          tabs={[
            { value: "form", label: "As a form" },
            { value: "yaml", label: yaml === undefined ? "As YAML" : "As YAML, not applied" },
            { value: "missed", label: "What would it miss?" },
          ]}
          value={view}
          onChoose={setView}
          className="min-h-0"
          listClassName="px-5 pt-1"
        >
          {view === "yaml" ? (
            <div className="grid gap-2 overflow-auto px-5 pt-4 pb-8">
              <textarea
                aria-label="The plan as YAML"
                value={text}
                spellCheck={false}
                onChange={(event) => setYaml(event.target.value)}
                className="h-[60vh] w-full rounded-md border border-quiet bg-sheet p-3 font-mono text-xs leading-5"
              />
              {read.error && <p role="alert">{read.error.message}</p>}
              <div className="flex gap-2">
                <Button
                  onClick={() =>
                    read.mutate(text, {
                      onSuccess: (plan) => {
                        setDraft(plan.document);
                        setYaml(undefined);
                        setView((now) => (now === "yaml" ? "form" : now));
                      },
                    })
                  }
                >
                  Apply to the form
                </Button>
                {yaml !== undefined && (
                  <Button
                    onClick={() => {
                      setYaml(undefined);
                      read.reset();
                    }}
                  >
                    Drop what was typed
                  </Button>
                )}
              </div>
            </div>
          ) : view === "missed" ? (
            <div className="overflow-auto pb-8">
              <Sensitivity document={rested} onChange={put} />
            </div>
          ) : (
            <div className="overflow-auto pb-8">
              <Section title="Cases" note="The rows of the sheet. A sweep makes one of each value: 2, 4, 8.">
                <Cases
                  document={draft}
                  effect={effect}
                  signals={signals.data?.signals.map((one) => one.name) ?? []}
                  measures={known}
                  onChange={(cases) => put({ cases })}
                />
              </Section>
              <Section title="Conditions" note="The columns of the sheet.">
                <Conditions
                  document={draft}
                  hosts={hosts.data?.hosts ?? []}
                  measures={known}
                  onChange={(conditions) => put({ conditions })}
                />
              </Section>
              <Section
                title="Limits"
                note="For the whole plan. A case goes before it, and a condition before both; all else is judged as usual."
              >
                <Limits
                  of="the plan"
                  limits={draft.limits}
                  measures={known}
                  onChange={(limits) => put({ limits })}
                />
              </Section>
              <Section title="Not rendered">
                <Exclusions document={draft} onChange={(exclude) => put({ exclude })} />
              </Section>
            </div>
          )}
        </Tabs>
        <aside aria-label="Revisions" className="min-h-0 overflow-auto border-l border-line px-4 py-4">
          {!isNew && (
            <>
              <h2 className="font-semibold">
                {changes.length > 0 ? "Changed here" : "Nothing is changed here"}
              </h2>
              <Differences said={changes} />
            </>
          )}
          <label className="mt-1 mb-4 grid gap-1">
            <span className="text-quiet">Reason (saved with the revision)</span>
            <textarea
              rows={2}
              maxLength={2000}
              value={draft.note}
              onChange={(event) => put({ note: event.target.value })}
              className={`${FIELD} h-auto py-1.5`}
            />
          </label>
          {written.revisions.length > 0 && <h2 className="font-semibold">Revisions</h2>}
          <ol>
            {written.revisions.map((one) => (
              <li key={one.id} className="border-b border-line py-2 text-xs leading-5">
                <Link to={`?revision=${one.number}`} className="font-semibold underline decoration-line">
                  Revision {one.number}
                </Link>
                <span className="block text-quiet">
                  {one.made_by && `by ${one.made_by}, `}
                  {dateTime(one.created_at)}, {count(one.runs, "run")}
                </span>
                {one.note && <p>{one.note}</p>}
                <Differences said={one.differences} />
              </li>
            ))}
          </ol>
        </aside>
      </div>
    </div>
  );
}

function Differences({ said }: { said: string[] }) {
  return (
    <ul className="mb-2 text-xs leading-5 text-quiet">
      {said.map((one) => (
        <li key={one}>{one}</li>
      ))}
    </ul>
  );
}

function cost({ cost: { cells, renders, seconds, most_bytes } }: WrittenPlan): string {
  const parts = [count(cells, "cell")];
  if (renders !== cells) parts.push(count(renders, "render"));
  if (seconds !== null) parts.push(`about ${duration(seconds)}`);
  return `${parts.join(", ")}, at most ${bytes(most_bytes)}`;
}

/** A value once it has not changed for a moment. */
function useRested<T>(value: T): T {
  const [rested, setRested] = useState(value);
  useEffect(() => {
    const timer = window.setTimeout(() => setRested(value), REST_MS);
    return () => window.clearTimeout(timer);
  }, [value]);
  return rested;
}
