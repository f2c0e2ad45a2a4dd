import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { MOST_FILES, MOST_LINES, MOST_SIDES } from "../../api/limits.gen";
import { useCan, useMe } from "../../api/me";
import { Button, Sentence, Word } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { count, number } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { reportFiles, TakeAway } from "../../ui/TakeAway";
import { listenAddress } from "../listening/address";
import { OverlayView } from "../overlays/OverlayView";
import { DropArea } from "./DropArea";
import { Levels } from "./Levels";
import { MeasuredFor, Options } from "./Options";
import { PlanPanel } from "./PlanPanel";
import {
  type FileSet,
  type SetFile,
  setQuery,
  useChangeSet,
  useComparePair,
  useCopySet,
  useMeasureAgain,
  useRemoveFiles,
} from "./queries";
import { type Chosen, queueOf, type Sending, useSending } from "./sending";
import { FileTable } from "./Table";

type Panel = "options" | "levels" | "name" | "plan";

export function SetPage() {
  const id = Number(useParams().set);
  const found = useQuery(setQuery(id));
  if (found.isPending) return <Loading what="the set" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  return (
    <>
      <Stale error={found.error} />
      <SetView key={id} set={found.data} />
    </>
  );
}

function SetView({ set }: { set: FileSet }) {
  const navigate = useNavigate();
  const queue = queueOf(set.id, useQueryClient());
  const sending = useSending(queue);
  const [marked, setMarked] = useState<ReadonlySet<number>>(new Set());
  const [panel, setPanel] = useState<Panel>();
  const [search, setSearch] = useSearchParams();
  const drawn = search.get("overlay") === "1";
  const [full, setFull] = useState(false);
  const change = useChangeSet(set.id);
  const remove = useRemoveFiles(set.id);
  const again = useMeasureAgain(set.id);
  const pair = useComparePair(set.options);
  const own = useMe().name === set.brought_by;
  const mayRemove = useCan("keep") || own;
  const works = useCan("work");
  const chosen = useMemo(() => set.files.filter((file) => marked.has(file.id)), [set.files, marked]);
  const measuring = set.files.filter((file) => file.state === "measuring").length;
  const error = change.error ?? remove.error ?? again.error ?? pair.error;
  const add = (files: Chosen[]) => {
    const room = MOST_FILES - set.files.length - sending.length;
    setFull(files.length > room);
    if (files.length <= room) queue.add(files);
  };
  const toggle = (to: Panel) => setPanel((now) => (now === to ? undefined : to));
  const [first, second] = chosen;
  const listen = () => {
    const special = set.files.find((file) => file.role !== "file");
    const heard = chosen.length === 1 && special && special.id !== first?.id ? [special, ...chosen] : chosen;
    const sides = heard.slice(0, MOST_SIDES).map((file) => ({ spec: file.address, name: file.name }));
    if (sides.length > 0) navigate(listenAddress(sides, `files/${set.id}`));
  };
  useKeys({ j: listen });
  return (
    <DropArea verb="Add" onFiles={add} className="flex flex-col">
      {(choose) => (
        <>
          <div className="px-5 pt-3 pb-2">
            <SetSentence set={set} onChange={change.mutate} fixed={!works} />
            <p className="text-quiet">
              <Link to="/files" className="underline">
                Files
              </Link>
              {" / "}
              {set.name}
              {set.note && `. ${set.note}`}
            </p>
          </div>
          <div className="flex flex-wrap items-center gap-2 px-5 pb-3">
            {choose}
            <Button needs="work" aria-expanded={panel === "options"} onClick={() => toggle("options")}>
              Comparison settings…
            </Button>
            <Button
              aria-expanded={drawn}
              disabled={set.files.length === 0}
              onClick={() => setSearch(drawn ? {} : { overlay: "1" }, { replace: true })}
            >
              {chosen.length > 1 ? `Overlay ${chosen.length} marked` : "Overlay"}
            </Button>
            <Button aria-expanded={panel === "levels"} onClick={() => toggle("levels")}>
              Match levels…
            </Button>
            <Button needs="work" aria-expanded={panel === "name"} onClick={() => toggle("name")}>
              Name, note, copy…
            </Button>
            <Button needs="keep" aria-expanded={panel === "plan"} onClick={() => toggle("plan")}>
              Make this a plan…
            </Button>
            <TakeAway
              what="the set"
              files={[
                { label: "Every reading, CSV", path: `/api/sets/${set.id}/table.csv` },
                ...reportFiles("The report", `/api/reports/sets/${set.id}`),
              ]}
            />
            <span role="status" className="ml-auto text-quiet">
              {measuring > 0
                ? `${count(measuring, "file")} of ${set.files.length} being measured`
                : chosen.length > 0
                  ? `${chosen.length} marked`
                  : count(set.files.length, "file")}
            </span>
            {chosen.length > 0 && (
              <Button hint="J" onClick={listen} disabled={chosen.length > MOST_SIDES}>
                Listen
              </Button>
            )}
            {first && second && chosen.length === 2 && (
              <Button
                needs="work"
                disabled={pair.isPending}
                onClick={() =>
                  pair.mutate([first.upload_id, second.upload_id], {
                    onSuccess: (made) => navigate(`/comparisons/${made.id}`),
                  })
                }
              >
                Open as a pair
              </Button>
            )}
            {chosen.length > 0 && mayRemove && (
              <Button
                needs="work"
                disabled={remove.isPending}
                onClick={() =>
                  remove.mutate(
                    chosen.map((one) => one.id),
                    { onSuccess: () => setMarked(new Set()) },
                  )
                }
              >
                Remove {count(chosen.length, "file")}
              </Button>
            )}
          </div>
          {full && (
            <p role="alert" className="px-5 pb-3">
              A set has up to {MOST_FILES} files; these would be more. Nothing was sent.
            </p>
          )}
          {error && (
            <p role="alert" className="px-5 pb-3">
              {error.message}
            </p>
          )}
          {panel === "options" && (
            <Options
              set={set}
              pending={change.isPending}
              onChange={change.mutate}
              onAgain={() => again.mutate(undefined)}
            />
          )}
          {panel === "levels" && <Levels set={set} chosen={chosen.length > 0 ? chosen : set.files} />}
          {panel === "plan" && <PlanPanel set={set} />}
          {panel === "name" && <Naming set={set} pending={change.isPending} onChange={change.mutate} />}
          <OnTheirWay
            sending={sending}
            onAgain={(key) => queue.again(key)}
            onDrop={(key) => queue.drop(key)}
          />
          {drawn && set.files.length > 0 && (
            <div className="border-t border-line pt-2">
              <OverlayView
                source={{ of: "set", set: set.id, files: overlaid(set, chosen) }}
                version={JSON.stringify([set.options, set.files.map(({ role, state }) => [role, state])])}
              />
              {(chosen.length || set.files.length) > MOST_LINES && (
                <p className="px-5 pb-2 text-xs text-quiet">
                  The first {MOST_LINES} are drawn; mark others to see them.
                </p>
              )}
            </div>
          )}
          {set.files.length === 0 && sending.length === 0 ? (
            <p className="px-5 py-8 text-quiet">
              There are no files in this set. Drop some here, or choose them above.
            </p>
          ) : (
            <FileTable set={set} marked={marked} onMark={setMarked} onChange={change.mutate} />
          )}
        </>
      )}
    </DropArea>
  );
}

/** Files of which there is a picture: those that are marked, else all, as many as there is room for. */
const overlaid = (set: FileSet, chosen: SetFile[]): number[] =>
  (chosen.length > 0 ? chosen : set.files).slice(0, MOST_LINES).map((file) => file.id);

/** What is looked at; its words are the controls. */
function SetSentence({
  set,
  onChange,
  fixed,
}: {
  set: FileSet;
  onChange: (to: { roles: Record<string, "reference" | "input"> }) => void;
  fixed: boolean;
}) {
  const special = set.files.find((file) => file.role !== "file");
  const value = special ? `${special.role} ${special.id}` : "";
  const others = set.files.length - (special ? 1 : 0);
  const choices = [
    { value: "", label: "each by itself" },
    ...set.files.map((file) => ({ value: `reference ${file.id}`, label: `against ${file.name}` })),
    ...set.files.map((file) => ({
      value: `input ${file.id}`,
      label: `as responses to ${file.name}`,
      detail: "response",
    })),
  ];
  const choose = (to: string) => {
    const [role, number] = to.split(" ");
    onChange({ roles: number ? { [number]: role as "reference" | "input" } : {} });
  };
  const said = choices.find((choice) => choice.value === value)?.label ?? "";
  return (
    <Sentence>
      <b className="font-semibold">{count(others, "file")}</b>,{" "}
      {fixed || set.files.length === 0 ? (
        <b className="font-semibold break-all">{said}</b>
      ) : (
        <Word name="What the files are compared with" value={value} choices={choices} onChoose={choose} />
      )}
      <MeasuredFor options={set.options} />.
    </Sentence>
  );
}

function Naming({
  set,
  pending,
  onChange,
}: {
  set: FileSet;
  pending: boolean;
  onChange: (to: { name: string; note: string }) => void;
}) {
  const [name, setName] = useState(set.name);
  const [note, setNote] = useState(set.note);
  const copy = useCopySet(set.id);
  const navigate = useNavigate();
  return (
    <form
      className="mx-5 mb-3 flex flex-wrap items-end gap-3 rounded-md border border-line bg-sheet p-4"
      onSubmit={(event) => {
        event.preventDefault();
        onChange({ name, note });
      }}
    >
      <label className="grid gap-1">
        Name
        <input
          value={name}
          required
          maxLength={200}
          onChange={(event) => setName(event.target.value)}
          className="h-9 w-72 rounded-md border border-quiet bg-ground px-2"
        />
      </label>
      <label className="grid grow gap-1">
        Note
        <input
          value={note}
          maxLength={4000}
          onChange={(event) => setNote(event.target.value)}
          className="h-9 rounded-md border border-quiet bg-ground px-2"
        />
      </label>
      <Button type="submit" look="main" disabled={pending || name.trim() === ""}>
        Save
      </Button>
      <Button
        disabled={copy.isPending}
        onClick={() =>
          copy.mutate(`${set.name}, copy`, { onSuccess: (made) => navigate(`/files/${made.id}`) })
        }
      >
        Duplicate for other files
      </Button>
      {copy.error && <p role="alert">{copy.error.message}</p>}
    </form>
  );
}

function OnTheirWay({
  sending,
  onAgain,
  onDrop,
}: {
  sending: readonly Sending[];
  onAgain: (key: number) => void;
  onDrop: (key: number) => void;
}) {
  if (sending.length === 0) return null;
  const failed = sending.filter((one) => one.error);
  const under = sending.filter((one) => !one.error);
  return (
    <section aria-label="Uploading" className="border-t border-line px-5 py-2">
      {under.length > 0 && (
        <p role="status" className="py-1 text-quiet">
          {count(under.length, "file")} Uploading:{" "}
          {under
            .filter((one) => one.share > 0)
            .map((one) =>
              one.share < 1
                ? `${one.file.name} ${number(100 * one.share, 0)} %`
                : `${one.file.name}, being read`,
            )
            .join("; ")}
        </p>
      )}
      {failed.map((one) => (
        <p key={one.key} role="alert" className="flex items-center gap-3 py-1">
          <span className="min-w-0">{one.error}</span>
          <Button small onClick={() => onAgain(one.key)}>
            Send again
          </Button>
          <Button small onClick={() => onDrop(one.key)}>
            Skip
          </Button>
        </p>
      ))}
    </section>
  );
}
