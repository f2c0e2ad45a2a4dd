import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { Sentence } from "../../ui/controls";
import { count, day } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
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
        <p className="px-5 py-8 text-quiet">No listening tests yet.</p>
      ) : (
        <div className="min-h-0 flex-1 overflow-auto">
          <Table columns={["Test", "Sides", "Made by", "Sittings", "Results"]}>
            {tests.map((test) => (
              <tr key={test.id}>
                <td>
                  <Link to={`/listen/tests/${test.id}`} className="font-semibold hover:underline">
                    {test.name}
                  </Link>
                  <span className="block text-xs text-quiet">{KINDS[test.kind]}</span>
                </td>
                <td className="text-quiet">{test.sides.join(", ")}</td>
                <td className="whitespace-nowrap text-quiet">
                  {test.made_by}, {day(test.made_at)}
                </td>
                <td className="whitespace-nowrap">
                  {test.sittings} finished
                  {test.under_way > 0 && <span className="text-quiet">, {test.under_way} under way</span>}
                </td>
                <td className="whitespace-nowrap text-quiet">
                  {test.until === null
                    ? "after each sitting"
                    : new Date(test.until) > new Date()
                      ? `hidden until ${day(test.until)}`
                      : `shown since ${day(test.until)}`}
                </td>
              </tr>
            ))}
          </Table>
          {more && (
            <p className="px-5 py-3 text-quiet">The newest {count(tests.length, "test")} are listed.</p>
          )}
        </div>
      )}
    </>
  );
}
