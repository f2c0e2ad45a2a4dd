import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { Button, EveryWord, Sentence } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { dateTime } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
import { inBothForms, TakeAway } from "../../ui/TakeAway";
import { type Asked, given, recordQuery } from "./queries";

/** Who did what, newest first. */
export function RecordPage() {
  const [search, setSearch] = useSearchParams();
  const asked: Asked = {
    who: search.get("who") ?? "",
    what: search.get("what") ?? "",
    text: search.get("text") ?? "",
    first: search.get("first") ?? "",
    last: search.get("last") ?? "",
  };
  const put = (part: Partial<Asked>) => setSearch(given({ ...asked, ...part }), { replace: true });
  const found = useInfiniteQuery(recordQuery(asked));
  if (found.isPending) return <Loading what="the record" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const events = found.data.pages.flatMap((page) => page.events);
  const { who = [], what = [] } = found.data.pages[0] ?? {};
  const query = `?${new URLSearchParams({ ...given(asked) })}`;
  return (
    <div className="overflow-auto pb-8">
      <Stale error={found.error} />
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 px-5 pt-3 pb-3">
        <Sentence>
          What{" "}
          <EveryWord
            name="Person"
            value={asked.who}
            every="anybody"
            names={who}
            onChoose={(value) => put({ who: value })}
          />{" "}
          did:{" "}
          <EveryWord
            name="Kind of event"
            value={asked.what}
            every="everything"
            names={what}
            onChoose={(value) => put({ what: value })}
          />
          .
        </Sentence>
        <div className="ml-auto flex items-center gap-3">
          <input
            aria-label="Contains"
            placeholder="Contains"
            className={`h-9 w-44 ${FIELD}`}
            value={asked.text}
            onChange={(event) => put({ text: event.target.value })}
          />
          <input
            aria-label="From"
            type="date"
            className={`h-9 ${FIELD}`}
            value={asked.first}
            onChange={(event) => put({ first: event.target.value })}
          />
          <span className="text-quiet">to</span>
          <input
            aria-label="To"
            type="date"
            className={`h-9 ${FIELD}`}
            value={asked.last}
            onChange={(event) => put({ last: event.target.value })}
          />
          <TakeAway
            what="the record"
            files={[
              ...inBothForms("Matching events", "/api/tables/record", query),
              ...inBothForms("Every decision", "/api/tables/decisions"),
            ]}
          />
        </div>
      </div>
      {events.length === 0 ? (
        <Empty title="No matching events.">Choose other words, another person or other days.</Empty>
      ) : (
        <Table caption="Events, newest first" columns={["When", "Who", "What"]}>
          {events.map((event) => (
            <tr key={event.id}>
              <td className="w-44 whitespace-nowrap text-quiet">{dateTime(event.at)}</td>
              <td className="w-52 font-semibold">{event.who}</td>
              <td className="break-words">
                {event.link ? (
                  <Link to={event.link} className="underline decoration-line hover:decoration-text">
                    {event.text}
                  </Link>
                ) : (
                  event.text
                )}
              </td>
            </tr>
          ))}
        </Table>
      )}
      {found.hasNextPage && (
        <p className="border-t border-line px-5 py-3">
          <Button disabled={found.isFetchingNextPage} onClick={() => found.fetchNextPage()}>
            Show older
          </Button>
        </p>
      )}
    </div>
  );
}
