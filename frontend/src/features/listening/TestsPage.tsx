import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { Sentence } from "../../ui/controls";
import { count, day } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { KINDS, testsQuery } from "./queries";

export function TestsPage() {
  const found = useQuery(testsQuery);
  if (found.isPending) return <Loading what="the listening tests" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const { tests, more } = found.data;
  return (
    <>
      <Stale error={found.error} />
      <div className="px-5 pt-3 pb-3">
        <Sentence>
          <b className="font-semibold">Listening tests</b>, newest first.
        </Sentence>
        <p className="text-quiet">
          A test is made where its sides are: press J on a pair, on marked cells of a sheet or on marked
          files, then “Listen blind”.
        </p>
      </div>
      {tests.length === 0 ? (
        <p className="px-5 py-8 text-quiet">Nobody has made a listening test yet.</p>
      ) : (
        <div className="min-h-0 flex-1 overflow-auto">
          <table className="w-full">
            <thead className="text-left text-xs text-quiet">
              <tr className="border-b border-line">
                <th className="py-2 pl-5 font-normal">Test</th>
                <th className="font-normal">Sides</th>
                <th className="font-normal">Made by</th>
                <th className="font-normal">Sittings</th>
                <th className="pr-5 font-normal">Results</th>
              </tr>
            </thead>
            <tbody>
              {tests.map((test) => (
                <tr key={test.id} className="border-b border-line bg-sheet align-baseline">
                  <td className="py-2.5 pl-5">
                    <Link to={`/listen/tests/${test.id}`} className="font-semibold hover:underline">
                      {test.name}
                    </Link>
                    <span className="block text-xs text-quiet">{KINDS[test.kind]}</span>
                  </td>
                  <td className="pr-4 text-quiet">{test.sides.join(", ")}</td>
                  <td className="pr-4 whitespace-nowrap text-quiet">
                    {test.made_by}, {day(test.made_at)}
                  </td>
                  <td className="pr-4 whitespace-nowrap">
                    {test.sittings}
                    {test.under_way > 0 && <span className="text-quiet">, {test.under_way} under way</span>}
                  </td>
                  <td className="pr-5 whitespace-nowrap text-quiet">
                    {test.until === null
                      ? "after each sitting"
                      : new Date(test.until) > new Date()
                        ? `hidden until ${day(test.until)}`
                        : `shown since ${day(test.until)}`}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {more && (
            <p className="px-5 py-3 text-quiet">The newest {count(tests.length, "test")} are listed.</p>
          )}
        </div>
      )}
    </>
  );
}
