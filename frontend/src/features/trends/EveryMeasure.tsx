import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Measure } from "../../api/client";
import { count, number } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { Table } from "../../ui/Table";
import { ofBuild } from "./ofBuild";
import { byBuildQuery } from "./queries";

/** Every measure of a plan by build: the worst reading of each run, with ink by how far it stands from its limit. */
export function EveryMeasure({ plan, measures }: { plan: number; measures: Measure[] }) {
  const found = useQuery(byBuildQuery(plan));
  if (found.isPending) return <Loading what="every measure" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const { builds, measures: rows, ink_at_limit: tick } = found.data;
  return (
    <>
      <p className="border-t border-line px-5 py-2 text-xs text-quiet">
        Of each run the reading that stands worst to its limit; of what has no limit, the greatest, or the
        least where more is better. The more ink, the nearer to the limit or the farther beyond it; the tick
        stands at the limit.
      </p>
      <div className="overflow-x-auto">
        <Table caption="Every measure, by build" columns={["Measure", "Unit", ...builds.map(ofBuild)]}>
          {rows.map((row) => {
            const measure = measures.find((one) => one.key === row.measure);
            if (!measure) return null;
            return (
              <tr key={row.measure}>
                <th scope="row" className="px-2 py-2 pl-5 text-left font-normal" title={measure.definition}>
                  <Link to={`/trends?plan=${plan}&measure=${row.measure}`} className="hover:underline">
                    {measure.title}
                  </Link>
                </th>
                <td className="text-quiet">{measure.unit}</td>
                {row.builds.map((worst, i) => {
                  const build = builds[i];
                  if (!worst || !build) return <td key={build?.run_id ?? i} />;
                  return (
                    <td key={build.run_id} className="relative text-right whitespace-nowrap">
                      {worst.ink > 0 && <Level ink={worst.ink} tick={tick} broken={worst.broken > 0} />}
                      <Link
                        to={`/cells/${worst.cell_id}`}
                        title={said(worst)}
                        className={`relative hover:underline ${worst.broken > 0 ? "font-semibold text-difference" : ""}`}
                      >
                        {number(worst.value, measure.decimals)}
                        <span className="sr-only">, {said(worst)}</span>
                      </Link>
                    </td>
                  );
                })}
              </tr>
            );
          })}
        </Table>
      </div>
    </>
  );
}

const said = ({ readings, limited, broken }: { readings: number; limited: number; broken: number }) =>
  limited === 0
    ? `of ${count(readings, "cell")}; none has a limit`
    : `the worst of ${count(limited, "cell")}; ${broken === 0 ? "all hold" : `${count(broken, "cell")} broken`}`;

/** A bar from the left of a cell, with a tick where the limit is. */
function Level({ ink, tick, broken }: { ink: number; tick: number; broken: boolean }) {
  return (
    <span aria-hidden="true" className="absolute inset-x-1 bottom-0 h-1">
      <span
        className={`absolute bottom-0 left-0 h-full ${broken ? "bg-difference" : "hatch-changed"}`}
        style={{ width: `${Math.max(4, ink * 100)}%` }}
      />
      <span className="absolute -top-0.5 bottom-0 w-px bg-quiet" style={{ left: `${tick * 100}%` }} />
    </span>
  );
}
