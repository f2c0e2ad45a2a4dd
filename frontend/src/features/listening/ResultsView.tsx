import { useQuery } from "@tanstack/react-query";
import { count, day, number, sentenceCase } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { reportFiles, TakeAway } from "../../ui/TakeAway";
import { type Odds, type Results, resultsQuery, type Test } from "./queries";

/** What a test came to: the conclusion in words, then how it was come by. */
export function ResultsView({ test, mine }: { test: Test; mine: number | undefined }) {
  const found = useQuery(resultsQuery(test.id));
  if (found.isPending) return <Loading what="the results" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const { sittings } = found.data;
  if (sittings.length === 0) return <p className="text-quiet">No sittings yet.</p>;
  return (
    <div className="grid gap-6">
      {test.kind === "abx" ? (
        <ToldApart found={found.data} mine={mine} />
      ) : (
        <Graded found={found.data} scale={test.scale === "BS.1116" ? [1, 5] : [0, 100]} />
      )}
      <Sittings found={found.data} mine={mine} />
      <p>
        <TakeAway
          what="the results"
          files={[
            { label: "Every trial, CSV", path: `/api/listening/tests/${test.id}/results.csv` },
            ...reportFiles("The report", `/api/reports/tests/${test.id}`),
          ]}
        />
      </p>
    </div>
  );
}

function ToldApart({ found, mine }: { found: Results; mine: number | undefined }) {
  const own = found.sittings.find((one) => one.sitting_id === mine);
  const people = found.by_person.length;
  const mySum =
    own && !own.odds && people > 1 ? found.by_person.find((one) => one.who === own.who) : undefined;
  return (
    <div className="flex flex-wrap gap-x-12 gap-y-5">
      {own?.odds && <Conclusion title="this sitting" odds={own.odds} />}
      {own && !own.odds && own.state === "done" && (
        <section aria-label="this sitting" className="max-w-sm">
          <p className="text-xs text-quiet">this sitting</p>
          <p className="text-3xl font-bold">
            {own.rights.filter(Boolean).length} of {own.rights.length} right
          </p>
          <p className="pt-1 leading-6">{sentenceCase(own.note)}.</p>
        </section>
      )}
      {mySum && <Conclusion title="your sittings, added up" odds={mySum.odds} />}
      {found.pooled && (people > 1 || !own?.odds) && (
        <Conclusion
          title={people > 1 ? `${people} people, each once, added up` : "all sittings, added up"}
          odds={found.pooled}
        />
      )}
    </div>
  );
}

function Conclusion({ title, odds }: { title: string; odds: Odds }) {
  return (
    <section aria-label={title} className="max-w-sm">
      <p className="text-xs text-quiet">{title}</p>
      <p className="text-3xl font-bold">
        {odds.correct} of {odds.trials} right
      </p>
      <p className="pt-1 leading-6">{odds.words}</p>
      {odds.p !== null && (
        <p className="pt-1 text-xs leading-5 text-quiet">
          p {odds.corrected ? "≤" : "="} {odds.p < 0.001 ? odds.p.toExponential(1) : number(odds.p, 3)},{" "}
          {odds.corrected ? "however often somebody looked (Ville)" : "one-sided exact binomial"}. Share right{" "}
          {number((100 * odds.correct) / odds.trials, 0)} %, 95 % interval {number(100 * (odds.low ?? 0), 0)}{" "}
          to {number(100 * (odds.high ?? 1), 0)} % (Clopper-Pearson).
        </p>
      )}
    </section>
  );
}

function Graded({ found, scale: [low, high] }: { found: Results; scale: [number, number] }) {
  const place = (grade: number) => `${(100 * (Math.min(high, Math.max(low, grade)) - low)) / (high - low)}%`;
  return (
    <section aria-label="Mean grades">
      <h2 className="pb-2 font-semibold">Mean grades, with 95 % intervals</h2>
      <div className="grid max-w-3xl gap-2">
        {found.means.map((one) => (
          <div key={one.side} className="grid grid-cols-[12rem_1fr_9rem] items-center gap-3">
            <span className="min-w-0 break-words">{one.side}</span>
            <span className="relative h-6 border-x border-line bg-sheet" aria-hidden="true">
              {one.low !== null && one.high !== null && (
                <span
                  className="absolute top-2.5 h-1 bg-quiet opacity-50"
                  style={{ left: place(one.low), right: `calc(100% - ${place(one.high)})` }}
                />
              )}
              <span
                className="absolute top-1 h-4 w-1 -translate-x-1/2 bg-text"
                style={{ left: place(one.mean) }}
              />
            </span>
            <span className="text-right whitespace-nowrap">
              <b className="font-semibold">{number(one.mean, high > 10 ? 0 : 1)}</b>{" "}
              <span className="text-xs text-quiet">
                {one.low !== null && one.high !== null
                  ? `${number(one.low, high > 10 ? 0 : 1)} to ${number(one.high, high > 10 ? 0 : 1)}, ${count(one.count, "grade")}`
                  : "one grade"}
              </span>
            </span>
          </div>
        ))}
      </div>
      {found.means.length === 0 && <p className="text-quiet">There are no grades that count.</p>}
      {found.screened.map((one) => (
        <p key={one.listener} className="pt-2 text-quiet">
          {one.listener} does not count: {one.why}.
        </p>
      ))}
    </section>
  );
}

function Sittings({ found, mine }: { found: Results; mine: number | undefined }) {
  return (
    <section aria-label="Sittings">
      <h2 className="pb-1 font-semibold">Sittings</h2>
      <table className="w-full max-w-3xl">
        <tbody>
          {[...found.sittings].reverse().map((one) => (
            <tr key={one.sitting_id} className="border-t border-line align-baseline">
              <td className={`py-1.5 pr-4 ${one.sitting_id === mine ? "font-semibold" : ""}`}>{one.who}</td>
              <td className="pr-4 whitespace-nowrap text-quiet">{day(one.begun_at)}</td>
              <td className="pr-4">
                <span className="flex flex-wrap gap-0.5" role="img" aria-label={rightAndWrong(one.rights)}>
                  {one.rights.map((right, i) => (
                    <span
                      // biome-ignore lint/suspicious/noArrayIndexKey: an answer is its place
                      key={i}
                      className={`h-3 w-3 ${right ? "bg-text" : "border border-quiet"}`}
                    />
                  ))}
                </span>
              </td>
              <td className="text-right text-quiet">
                {one.note
                  ? `${one.rights.length > 0 ? `${one.rights.filter(Boolean).length} of ${one.rights.length}, ` : ""}${one.note}`
                  : one.odds
                    ? `${one.odds.correct} of ${one.odds.trials}${one.trials === 0 ? ", ended at a bound, does not add up" : one.odds.p === null ? "" : `, p = ${number(one.odds.p, 3)}`}`
                    : count(one.means.length, "side")}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const rightAndWrong = (rights: boolean[]) =>
  `${rights.filter(Boolean).length} right, ${rights.filter((right) => !right).length} wrong`;
