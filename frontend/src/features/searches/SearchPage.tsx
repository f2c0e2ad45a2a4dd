import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import type { Search } from "../../api/client";
import { Sentence } from "../../ui/controls";
import { dateTime, kilohertz } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
import { verdictText } from "../../ui/words";
import { searchQuery } from "./queries";

/** The first build that differs, or how far the search for it is. */
export function SearchPage() {
  const id = Number(useParams().search);
  const search = useQuery(searchQuery(id));
  if (search.isPending) return <Loading what="the search" />;
  if (!search.data) return <Failed error={search.error} onRetry={() => search.refetch()} />;
  const { effect, signal, setting, condition: c, first, builds, started_by, started_at } = search.data;
  const found = first === null ? undefined : builds[first];
  const before = first === null ? undefined : builds[first - 1];
  return (
    <div className="overflow-auto pb-8">
      <Stale error={search.error} />
      <div className="px-5 pt-3 pb-3">
        <Sentence>
          <b className="font-semibold">{signal}</b> through <b className="font-semibold">{setting}</b> in{" "}
          <b className="font-semibold">
            {c.host} {c.host_version}, {c.mode}, {kilohertz(c.rate)} kHz
          </b>{" "}
          {found ? (
            <>
              first differs in{" "}
              <b className="font-semibold text-difference">
                {effect} {found.version}
              </b>
              .
            </>
          ) : (
            <>is searched for the first build that differs.</>
          )}
        </Sentence>
        <p role="status" className="text-quiet">
          {found && before
            ? before.passes
              ? `${before.version} is the last that passes.`
              : `${before.version} differs too, for another cause.`
            : "The builds halfway between are being rendered; this page follows by itself."}{" "}
          Started by {started_by}, {dateTime(started_at)}.
        </p>
      </div>
      <Table caption="Builds, oldest first">
        {builds.map((build, i) => (
          <tr key={build.version}>
            <td className="w-40 font-semibold">{build.version}</td>
            <td className="w-56">
              <State build={build} />
            </td>
            <td className="text-quiet">{build.why || build.note}</td>
            <td className="text-right whitespace-nowrap">
              {build.cell_id !== null && (
                <Link
                  to={`/cells/${build.cell_id}`}
                  className={`underline decoration-line hover:decoration-text ${i === first || i + 1 === first ? "font-semibold" : ""}`}
                >
                  {i === first
                    ? "Open the first that differs"
                    : i + 1 === first
                      ? "Open the build before it"
                      : "Open pair"}
                </Link>
              )}
            </td>
          </tr>
        ))}
      </Table>
    </div>
  );
}

function State({ build }: { build: Search["builds"][number] }) {
  if (build.cell_id === null) return <span className="text-quiet">not rendered, not needed so far</span>;
  if (build.passes === null) return <span className="text-quiet">being rendered</span>;
  return build.passes ? (
    <>passes</>
  ) : (
    <b className="font-semibold text-difference">{build.verdict && verdictText(build.verdict)}</b>
  );
}
