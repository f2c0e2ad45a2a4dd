import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Measure, Trend, TrendLine } from "../../api/client";
import { measuresQuery } from "../../api/measures";
import { Sentence, Word } from "../../ui/controls";
import { limitText, number } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
import { type Download, inBothForms, TakeAway } from "../../ui/TakeAway";
import { plansQuery } from "../plans/queries";
import { EveryMeasure } from "./EveryMeasure";
import { caseText, placeText, stepText } from "./lines";
import { ofBuild } from "./ofBuild";
import { trendQuery } from "./queries";
import { SmallTrends } from "./SmallTrends";

export function TrendsPage() {
  const plans = useQuery(plansQuery);
  const measures = useQuery(measuresQuery);
  const [search, setSearch] = useSearchParams();
  const all = plans.data?.plans ?? [];
  const trend = useQuery({
    ...trendQuery(Number(search.get("plan")) || undefined, search.get("measure") ?? undefined, {
      signal: search.get("signal") ?? "",
      setting: search.get("setting") ?? "",
    }),
    enabled: all.length > 0,
  });
  const put = (changes: Record<string, string>) =>
    setSearch((before) => {
      for (const [key, value] of Object.entries(changes)) value ? before.set(key, value) : before.delete(key);
      return before;
    });
  if (plans.data && all.length === 0)
    return (
      <Empty title="No plans yet.">
        A trend shows a measure over the builds that a plan was run on. Write a plan on Plans, and run it.
      </Empty>
    );
  if (trend.isPending || !measures.data || !plans.data) return <Loading what="the trend" />;
  if (!trend.data) return <Failed error={trend.error} onRetry={() => trend.refetch()} />;
  const { lines, cases, builds, plan_id: planId, measure: measureKey } = trend.data;
  const measure = measures.data.measures.find((one) => one.key === measureKey);
  const shown = lines[0] ? caseText(lines[0]) : "";
  const every = search.get("every") === "1";
  const limited = measures.data.measures.filter(
    (one) => one.family !== "account" && one.family !== "folding",
  );
  return (
    <div className="overflow-auto pb-8">
      <Stale error={trend.error} />
      <div className="flex items-center justify-between px-5 pt-3 pb-3">
        <Sentence>
          <Word
            name="Measure"
            value={every ? EVERY : measureKey}
            choices={[
              { value: EVERY, label: "Every measure" },
              ...limited.map((one) => ({ value: one.key, label: one.title })),
            ]}
            onChoose={(value) => (value === EVERY ? put({ every: "1" }) : put({ measure: value, every: "" }))}
          />{" "}
          {!every && (
            <>
              of{" "}
              <Word
                name="Case"
                value={shown}
                choices={cases.map((one) => ({ value: caseText(one), label: caseText(one) }))}
                onChoose={(value) => {
                  const one = cases.find((other) => caseText(other) === value);
                  if (one) put({ signal: one.signal, setting: one.setting });
                }}
              />{" "}
            </>
          )}
          over the builds of{" "}
          <Word
            name="Plan"
            value={String(planId)}
            choices={all
              .filter((one) => !one.archived || one.id === planId)
              .map((one) => ({ value: String(one.id), label: `${one.effect}, ${one.name}` }))}
            onChoose={(value) =>
              setSearch({ plan: value, measure: measureKey, ...(every ? { every: "1" } : {}) })
            }
          />
          .
        </Sentence>
        <TakeAway
          what="the trend"
          files={[
            ...inBothForms("All cases", `/api/tables/plans/${planId}/${measureKey}`),
            ...(lines[0] && !every ? plotFiles(planId, measureKey, lines[0]) : []),
          ]}
        />
      </div>
      {!measure || builds.length === 0 ? (
        <Empty title="This plan has not been run yet.">
          Run it on two or more builds to see how its measures change.
        </Empty>
      ) : every ? (
        <EveryMeasure plan={planId} measures={measures.data.measures} />
      ) : lines.length === 0 ? (
        <Empty title="Nothing of it has been measured yet.">
          Its cells wait for a render, or for somebody who renders them by hand.
        </Empty>
      ) : (
        <>
          <SmallTrends lines={lines} builds={builds} measure={measure} />
          <Figures trend={trend.data} lines={lines} measure={measure} />
        </>
      )}
    </div>
  );
}

const EVERY = "every";

/** The small plots as files. */
const plotFiles = (plan: number, measure: string, { signal, setting }: TrendLine): Download[] =>
  ["svg", "png"].map((form) => ({
    label: `These plots, ${form.toUpperCase()}`,
    path: `/api/trends/${plan}/${measure}.${form}?${new URLSearchParams({ signal, setting })}`,
  }));

function Figures({ trend, lines, measure }: { trend: Trend; lines: TrendLine[]; measure: Measure }) {
  return (
    <Table
      caption={`${measure.title}, ${measure.unit}, by condition and build`}
      columns={["Condition", "Limit", ...trend.builds.map(ofBuild)]}
    >
      {lines.map((line) => (
        <tr key={line.condition.id}>
          <td>{placeText(line)}</td>
          <td className="whitespace-nowrap text-quiet">
            {limitText(line.limit, measure)} {line.limit && measure.unit}
          </td>
          {line.points.map((point, i) => (
            <td key={trend.builds[i]?.run_id} className="text-right whitespace-nowrap">
              {line.approved.includes(i) && (
                <span className="pr-1.5 text-reference">
                  <span aria-hidden="true">◆</span>
                  <span className="sr-only">Became the reference: </span>
                </span>
              )}
              {point ? (
                <Link
                  to={`/cells/${point.cell_id}`}
                  title={point.why}
                  className={`inline-block min-h-6 min-w-6 leading-6 hover:underline ${point.verdict === "Fail" ? "font-semibold text-difference" : ""}`}
                >
                  {point.value === null ? point.verdict.toLowerCase() : number(point.value, measure.decimals)}
                </Link>
              ) : (
                <span className="text-quiet">not run</span>
              )}
              <Changed line={line} place={i} measure={measure} />
            </td>
          ))}
        </tr>
      ))}
    </Table>
  );
}

/** By how much a figure changed at a build, with the way to the two builds beside each other. */
function Changed({ line, place, measure }: { line: TrendLine; place: number; measure: Measure }) {
  const step = line.changes.find((one) => one.place === place);
  const [before, after] = [line.points[step?.before ?? -1], line.points[place]];
  if (!step || !before || !after) return null;
  return (
    <Link
      to={`/cells/${after.cell_id}?beside=${before.cell_id}`}
      className="block min-h-6 text-xs leading-6 underline decoration-line hover:decoration-text"
    >
      {stepText(line, step, measure)}
    </Link>
  );
}
