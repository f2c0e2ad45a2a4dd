import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { Button, Sentence, Word } from "../../ui/controls";
import { count, number } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { ACTIONS, column, Table } from "../../ui/Table";
import { effectsQuery } from "../effects/queries";
import { ArchivedMark, useShown } from "../upkeep/Archived";
import { ThingMenu } from "../upkeep/ThingMenu";
import { plansQuery, templatesQuery } from "./queries";

export function PlansPage() {
  const plans = useQuery(plansQuery);
  const effects = useQuery(effectsQuery);
  const { shown, box } = useShown(plans.data?.plans ?? []);
  if (plans.isPending) return <Loading what="the plans" />;
  if (!plans.data) return <Failed error={plans.error} onRetry={() => plans.refetch()} />;
  const all = plans.data.plans;
  if (all.length === 0 && effects.data?.effects.length === 0)
    return (
      <Empty title="No plans yet.">
        A plan tests an effect. Choose one first: on{" "}
        <Link to="/hosts" className="text-text underline">
          Hosts
        </Link>
        , each running machine lists the effects that it has.
      </Empty>
    );
  return (
    <div className="overflow-auto pb-8">
      <Stale error={plans.error} />
      <NewPlan />
      {all.length === 0 ? (
        <Empty title="No plans yet.">
          Choose a question and an effect above, and a plan is made from a template; change it before you save
          it.
        </Empty>
      ) : (
        <Table
          caption="All plans"
          columns={["Plan", "Effect", column("Cells", "text-right"), "Revision", "Builds", ACTIONS]}
        >
          {shown.map((plan) => (
            <tr key={plan.id} className="hover:bg-ground">
              <td>
                <Link to={`/plans/${plan.id}`} className="font-semibold hover:underline">
                  {plan.name}
                </Link>
                {plan.archived && <ArchivedMark />}
              </td>
              <td>{plan.effect}</td>
              <td className="text-right">{number(plan.cells, 0)}</td>
              <td>{plan.revision}</td>
              <td className="text-quiet">{count(plan.builds.length, "build")}</td>
              <td className="w-14 py-1! text-right">
                <ThingMenu kind="plan" id={plan.id} name={plan.name} archived={plan.archived} />
              </td>
            </tr>
          ))}
        </Table>
      )}
      {box && <p className="border-t border-line px-5 py-2">{box}</p>}
    </div>
  );
}

/** Asks what is to be found out, of which effect. */
function NewPlan() {
  const navigate = useNavigate();
  const templates = useQuery(templatesQuery);
  const effects = useQuery(effectsQuery);
  const [key, setKey] = useState("null");
  const [name, setName] = useState<string>();
  const known = (effects.data?.effects ?? []).filter((one) => !one.archived);
  const effect = name ?? known.find((one) => one.settings.length > 0)?.name ?? known[0]?.name;
  const template = templates.data?.templates.find((one) => one.key === key);
  if (!templates.data || !effect) return <div className="h-16" />;
  return (
    <div className="px-5 pt-3 pb-4">
      <div className="flex flex-wrap items-center gap-4">
        <Sentence>
          A plan for{" "}
          <Word
            name="Template"
            value={key}
            choices={templates.data.templates.map((one) => ({
              value: one.key,
              label: one.title,
              detail: one.purpose,
            }))}
            onChoose={setKey}
          />{" "}
          of{" "}
          <Word
            name="Effect"
            value={effect}
            choices={known.map((one) => ({ value: one.name, label: one.name }))}
            onChoose={setName}
          />
          .
        </Sentence>
        <Button
          look="main"
          needs="work"
          onClick={() => navigate(`/plans/new?${new URLSearchParams({ template: key, effect })}`)}
        >
          Write the plan
        </Button>
      </div>
      <p className="text-quiet">{template?.purpose}</p>
    </div>
  );
}
