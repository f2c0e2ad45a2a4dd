import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { Reference } from "../../api/client";
import { Button, EveryWord, Sentence } from "../../ui/controls";
import { count, dateTime, kilohertz } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
import { inBothForms, TakeAway } from "../../ui/TakeAway";
import { historyQuery, referencesQuery } from "./queries";

/** Rows of which a browser draws the table at once. */
const MOST_SHOWN = 500;

export function ReferencesPage() {
  const references = useQuery(referencesQuery);
  const [search, setSearch] = useSearchParams();
  const [every, setEvery] = useState(false);
  if (references.isPending) return <Loading what="the references" />;
  if (!references.data) return <Failed error={references.error} onRetry={() => references.refetch()} />;
  const all = references.data.references;
  const host = search.get("host") ?? "";
  const effect = search.get("effect") ?? "";
  const build = search.get("build") ?? "";
  const ofEffect = all.filter((one) => effect === "" || one.effect === effect);
  const shown = ofEffect.filter(
    (one) => (host === "" || one.condition.host === host) && (build === "" || one.version === build),
  );
  const put = (name: string, value: string, ...without: string[]) =>
    setSearch((before) => {
      value ? before.set(name, value) : before.delete(name);
      for (const other of without) before.delete(other);
      return before;
    });
  return (
    <div className="overflow-auto pb-6">
      <Stale error={references.error} />
      <div className="flex items-center justify-between px-5 pt-3 pb-2">
        <Sentence>
          {count(shown.length, "approved reference")} of{" "}
          <EveryWord
            name="Effect"
            value={effect}
            every="every effect"
            names={all.map((one) => one.effect)}
            onChoose={(value) => put("effect", value, "build")}
          />{" "}
          from{" "}
          <EveryWord
            name="Build"
            value={build}
            every="every build"
            names={ofEffect.map((one) => one.version)}
            onChoose={(value) => put("build", value)}
          />{" "}
          in{" "}
          <EveryWord
            name="Host"
            value={host}
            every="every host"
            names={all.map((one) => one.condition.host)}
            onChoose={(value) => put("host", value)}
          />
          .
        </Sentence>
        <TakeAway what="the references" files={inBothForms("All references", "/api/tables/references")} />
      </div>
      {all.length === 0 ? (
        <Empty title="No references yet.">
          Open the run of a build that is known to be good, look at it, and approve its renders. Later builds
          are compared with them.
        </Empty>
      ) : (
        <>
          <References references={every ? shown : shown.slice(0, MOST_SHOWN)} link />
          {shown.length > MOST_SHOWN && !every && (
            <p className="border-t border-line px-5 py-2">
              <Button small onClick={() => setEvery(true)}>
                Show all {count(shown.length, "reference")}
              </Button>
            </p>
          )}
        </>
      )}
    </div>
  );
}

export function HistoryPage() {
  const id = Number(useParams().reference);
  const past = useQuery(historyQuery(id));
  if (past.isPending) return <Loading what="the history" />;
  if (!past.data) return <Failed error={past.error} onRetry={() => past.refetch()} />;
  const [newest] = past.data.references;
  return (
    <div className="overflow-auto pb-6">
      <div className="px-5 pt-3 pb-2">
        <Sentence>
          {newest ? (
            <>
              References of <b className="font-semibold">{newest.signal}</b> through{" "}
              <b className="font-semibold">{newest.setting}</b> in{" "}
              <b className="font-semibold">{condition(newest)}</b>, newest first.
            </>
          ) : (
            "No reference"
          )}
        </Sentence>
        <Link to="/references" className="text-quiet underline">
          All references
        </Link>
      </div>
      <References references={past.data.references} link={false} />
    </div>
  );
}

const condition = ({ condition: c }: Reference) =>
  `${c.host} ${c.host_version}, ${c.mode}${c.hosting && `, ${c.hosting}`}, ${kilohertz(c.rate)} kHz`;

function standing(reference: Reference): string {
  if (reference.undone) return "undone";
  return reference.retired_at ? `until ${dateTime(reference.retired_at)}` : "current";
}

function References({ references, link }: { references: Reference[]; link: boolean }) {
  return (
    <Table
      caption="References"
      columns={["Case", "Condition", "Render of", "Approved", "Why", link ? "" : "Status"]}
    >
      {references.map((reference) => (
        <tr key={reference.id} className="hover:bg-ground">
          <td>
            <b className="font-semibold">{reference.signal}</b> · {reference.setting}
          </td>
          <td>{condition(reference)}</td>
          <td>
            <Link
              to={`/cells/${reference.cell_id}`}
              className="underline decoration-line hover:decoration-text"
            >
              {reference.effect} {reference.version}
            </Link>
          </td>
          <td className="whitespace-nowrap">
            {reference.approved_by}, {dateTime(reference.approved_at)}
          </td>
          <td className="max-w-72 text-quiet">{reference.why || "—"}</td>
          <td className="whitespace-nowrap">
            {link ? (
              <Link
                to={`/references/${reference.id}`}
                className="underline decoration-line hover:decoration-text"
              >
                History
              </Link>
            ) : (
              standing(reference)
            )}
          </td>
        </tr>
      ))}
    </Table>
  );
}
