import { useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { MOST_FILES } from "../../api/limits.gen";
import { useCan, useMe } from "../../api/me";
import { Button, Sentence } from "../../ui/controls";
import { count, dateTime } from "../../ui/numbers";
import { ACTIONS, column, Table } from "../../ui/Table";
import { DropArea } from "./DropArea";
import { comparisonsQuery, makeSet, setsQuery, useDeleteComparison, useDeleteSet } from "./queries";
import { type Chosen, queueOf } from "./sending";

/** Any number of own files: dropping some makes a set of them, and the sets that there are. */
export function FilesPage() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [error, setError] = useState("");
  const begin = async (chosen: Chosen[]) => {
    const [first] = chosen;
    if (!first) return;
    if (chosen.length > MOST_FILES) {
      setError(`A set has up to ${MOST_FILES} files; these are ${chosen.length}. Nothing was sent.`);
      return;
    }
    const folder = first.folder.split("/")[0];
    const rest = chosen.length > 1 ? ` and ${chosen.length - 1} more` : "";
    setError("");
    try {
      const { id } = await makeSet(folder || `${first.file.name}${rest}`);
      queueOf(id, queries).add(chosen);
      navigate(`/files/${id}`);
    } catch (problem) {
      setError(problem instanceof Error ? problem.message : String(problem));
    }
  };
  return (
    <DropArea onFiles={(chosen) => void begin(chosen)} className="overflow-auto pb-8">
      {(choose) => (
        <>
          <div className="px-5 pt-3 pb-3">
            <Sentence>Measure files of your own, or compare them with one of them.</Sentence>
          </div>
          <section
            aria-label="New set"
            className="mx-5 flex min-h-40 flex-col items-start justify-center rounded-md border-2 border-dashed border-quiet bg-sheet p-6"
          >
            <p className="text-base font-semibold">Drop 1 to 200 files or a folder anywhere here.</p>
            <p className="mt-1 max-w-3xl text-quiet">
              WAV, FLAC, AIFF, RF64, W64, CAF, MP3, Ogg Vorbis and Opus; any rate, up to 8 channels and one
              hour of stereo at 96 kHz. Nothing has to be of one length, rate or channel count.
            </p>
            <div className="mt-4 flex gap-2">{choose}</div>
            {error && (
              <p role="alert" className="mt-3">
                {error}
              </p>
            )}
          </section>
          <Sets />
          <Earlier />
        </>
      )}
    </DropArea>
  );
}

function Sets() {
  const sets = useInfiniteQuery(setsQuery);
  const me = useMe();
  const keeps = useCan("keep");
  const remove = useDeleteSet();
  const found = sets.data?.pages.flatMap((page) => page.sets) ?? [];
  if (sets.error)
    return (
      <p role="alert" className="px-5 pt-6">
        {sets.error.message}
      </p>
    );
  if (sets.data && found.length === 0)
    return <p className="px-5 pt-6 text-quiet">No sets yet: the files that you drop make the first one.</p>;
  return (
    <section className="mt-7">
      <h2 className="px-5 pb-1 font-semibold">Sets</h2>
      <Table
        columns={[
          "Set",
          column("Files", "w-24 text-right"),
          "Note",
          column("By", "w-32"),
          column("Made", "w-36"),
          ACTIONS,
        ]}
      >
        {found.map((one) => (
          <tr key={one.id}>
            <td>
              <Link to={`/files/${one.id}`} className="font-semibold hover:underline">
                {one.name}
              </Link>
            </td>
            <td className="text-right">{one.files}</td>
            <td className="text-quiet">{one.note}</td>
            <td className="text-quiet">{one.brought_by}</td>
            <td className="whitespace-nowrap text-quiet">{dateTime(one.created_at)}</td>
            <td className="w-px">
              {(keeps || one.brought_by === me.name) && (
                <Sure
                  name={`${one.name}, ${count(one.files, "file")}`}
                  pending={remove.isPending}
                  onDelete={() => remove.mutate(one.id)}
                />
              )}
            </td>
          </tr>
        ))}
      </Table>
      {sets.hasNextPage && (
        <p className="border-t border-line px-5 py-3">
          <Button onClick={() => sets.fetchNextPage()} disabled={sets.isFetchingNextPage}>
            Show older sets
          </Button>
        </p>
      )}
      {remove.error && (
        <p role="alert" className="px-5 pt-2">
          {remove.error.message}
        </p>
      )}
    </section>
  );
}

/** Comparisons of two files that belong to no set. */
function Earlier() {
  const comparisons = useQuery(comparisonsQuery);
  const found = comparisons.data?.comparisons ?? [];
  const me = useMe();
  const keeps = useCan("keep");
  const remove = useDeleteComparison();
  if (found.length === 0) return null;
  return (
    <section className="mt-8">
      <h2 className="px-5 pb-1 font-semibold">Pairs</h2>
      <ul>
        {found.map((one) => (
          <li key={one.id} className="flex items-center gap-6 border-t border-line bg-sheet px-5 py-1.5">
            <Link to={`/comparisons/${one.id}`} className="min-w-0 flex-1 truncate hover:underline">
              <b className="font-semibold">{one.render}</b> against{" "}
              <b className="font-semibold">{one.reference}</b>
            </Link>
            <span className="text-quiet">{one.state === "done" ? "" : one.state}</span>
            <span className="whitespace-nowrap text-quiet">{dateTime(one.created_at)}</span>
            {(keeps || one.brought_by.includes(me.name)) && (
              <Sure
                name={`${one.render} against ${one.reference}`}
                pending={remove.isPending}
                onDelete={() => remove.mutate(one.id)}
              />
            )}
          </li>
        ))}
      </ul>
      {remove.error && (
        <p role="alert" className="px-5 pt-2">
          {remove.error.message}
        </p>
      )}
    </section>
  );
}

/** Asks once more before it deletes. */
function Sure({ name, pending, onDelete }: { name: string; pending: boolean; onDelete: () => void }) {
  const [sure, setSure] = useState(false);
  return (
    <span className="flex gap-2 whitespace-nowrap">
      {sure && (
        <Button small disabled={pending} onClick={onDelete}>
          Delete permanently
        </Button>
      )}
      <Button
        small
        aria-label={sure ? `Cancel deleting ${name}` : `Delete ${name}`}
        onClick={() => setSure(!sure)}
      >
        {sure ? "Cancel" : "Delete"}
      </Button>
    </span>
  );
}
