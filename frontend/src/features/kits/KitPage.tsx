import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type DragEvent, useState } from "react";
import { Link, useParams } from "react-router";
import { BASE } from "../../api/base";
import type { Kit, KitFile, KitPlace, KitReceipt } from "../../api/client";
import { sendFile } from "../../api/upload";
import { Button, FileButton, Sentence, Word } from "../../ui/controls";
import { count, kilohertz, number } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { Table } from "../../ui/Table";
import { reasonText, verdictText } from "../../ui/words";
import { kitQuery, useAssign, useDiscard } from "./queries";

export function KitPage() {
  const run = Number(useParams().run);
  const kit = useQuery(kitQuery(run));
  if (kit.isPending) return <Loading what="the kit" />;
  if (!kit.data) return <Failed error={kit.error} onRetry={() => kit.refetch()} />;
  return (
    <div className="overflow-auto pb-8">
      <Stale error={kit.error} />
      <KitView kit={kit.data} />
    </div>
  );
}

function KitView({ kit }: { kit: Kit }) {
  const open = kit.files.filter((file) => file.state !== "matched");
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2 px-5 pt-3 pb-3">
        <Sentence>
          Render kit of{" "}
          <Link
            to={`/runs/${kit.run_id}`}
            className="border-b-2 border-line font-semibold hover:border-quiet"
          >
            {kit.effect} {kit.version}, {kit.plan}
          </Link>
          .
        </Sentence>
        <p role="status" className="text-quiet">
          {kit.missing === 0
            ? `All ${count(kit.places.length, "render")} have come back`
            : `${kit.missing} of ${count(kit.places.length, "render")} still missing`}
        </p>
        <a
          href={`${BASE}/api/runs/${kit.run_id}/kit.zip`}
          download
          className="ml-auto inline-flex h-9 items-center rounded-md bg-text px-3 font-medium text-ground hover:opacity-90"
        >
          Download the kit
        </a>
      </div>
      <div className="grid gap-5 px-5 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <Returns run={kit.run_id} />
        <ol className="list-decimal space-y-1.5 pl-5 text-quiet marker:text-text">
          <li>Download the kit: a ZIP with the signals, a manifest, and a page that says what to do.</li>
          <li>Render each line of its table in the host, and keep the mark at the start of each file.</li>
          <li>Drop the renders here. Names may change: a file is known by its mark, too.</li>
        </ol>
      </div>
      {open.length > 0 && <Open kit={kit} files={open} />}
      <Places kit={kit} />
    </>
  );
}

interface Sending {
  name: string;
  share: number;
  said: string | undefined;
}

/** Where files are dropped; each is sent by itself, and what was not kept says why. */
function Returns({ run }: { run: number }) {
  const queries = useQueryClient();
  const [over, setOver] = useState(false);
  const [sending, setSending] = useState<Sending[]>([]);
  const change = (name: string, next: Partial<Sending>) =>
    setSending((before) => before.map((one) => (one.name === name ? { ...one, ...next } : one)));
  const send = async (files: Iterable<File>) => {
    const all = [...files];
    const names = new Set(all.map((file) => file.name));
    setSending((before) => [
      ...before.filter((one) => one.said !== undefined && !names.has(one.name)),
      ...all.map((file) => ({ name: file.name, share: 0, said: undefined })),
    ]);
    for (const file of all) {
      const asked = new URLSearchParams({ name: file.name });
      try {
        const receipt = await sendFile<KitReceipt>(
          `/api/runs/${run}/kit/files?${asked}`,
          file,
          (share) => change(file.name, { share }),
          new AbortController().signal,
        );
        change(file.name, { said: told(receipt) });
      } catch (error) {
        change(file.name, { said: error instanceof Error ? error.message : String(error) });
      }
      await queries.invalidateQueries({ queryKey: ["kit", run] });
    }
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    void send(event.dataTransfer.files);
  };
  return (
    <section
      aria-label="Returned renders"
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
      className={`flex min-h-32 flex-col rounded-md border-2 border-dashed bg-sheet p-4 ${over ? "border-text" : "border-line"}`}
    >
      <h2 className="font-semibold">Returned renders</h2>
      <p className="mt-1 text-quiet">Drop files or a ZIP here: WAV, FLAC, AIFF, RF64, W64 or CAF.</p>
      {sending.length > 0 && (
        <ul role="status" className="mt-3 space-y-1">
          {sending.map((one) => (
            <li key={one.name}>
              <span className="font-medium break-all">{one.name}</span>{" "}
              <span className="text-quiet">
                {one.said ?? (one.share < 1 ? `${Math.round(one.share * 100)} % sent` : "Reading…")}
              </span>
            </li>
          ))}
        </ul>
      )}
      <FileButton multiple also=".zip," className="mt-auto self-start" onFiles={(files) => void send(files)}>
        Choose files
      </FileButton>
    </section>
  );
}

function told({ kept, refused }: KitReceipt): string {
  const words = [
    kept.length > 0 && `${count(kept.length, "file")} kept`,
    ...refused.map((one) => `${one.name} was not kept: ${one.why}`),
  ].filter(Boolean);
  return words.length > 0 ? `${words.join("; ")}.` : "There was no audio in it.";
}

/** What has come back and is no render yet: in doubt, unknown, or just being looked at. */
function Open({ kit, files }: { kit: Kit; files: KitFile[] }) {
  const assign = useAssign(kit.run_id);
  const discard = useDiscard(kit.run_id);
  const error = assign.error ?? discard.error;
  return (
    <section className="mt-6 border-t border-line">
      <h2 className="px-5 pt-4 pb-2 font-semibold">Which render is this?</h2>
      {error && (
        <p role="alert" className="px-5 pb-2">
          {error.message}
        </p>
      )}
      <ul>
        {files.map((file) => (
          <li
            key={file.id}
            className="flex flex-wrap items-baseline gap-x-6 gap-y-1 border-t border-line bg-sheet px-5 py-2.5"
          >
            <div className="min-w-64 flex-1">
              <p className="font-medium break-all">{file.name}</p>
              <p className="text-quiet">
                {file.state === "received" ? "Checking…" : `${file.why}.`} {kilohertz(file.rate)} kHz,{" "}
                {count(file.channels, "channel")}, {number(file.seconds, 2)} s
              </p>
            </div>
            {file.state !== "received" && (
              <>
                <span>
                  It is{" "}
                  <Word
                    name={`Render of ${file.name}`}
                    value=""
                    choices={[{ value: "", label: "choose a render" }, ...choices(kit, file)]}
                    onChoose={(cell) => cell && assign.mutate({ file: file.id, cell: Number(cell) })}
                  />
                </span>
                <Button needs="work" onClick={() => discard.mutate(file.id)}>
                  Discard
                </Button>
              </>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** The likely ones first, then all others at the file's rate. */
function choices(kit: Kit, file: KitFile) {
  const fits = kit.places.filter((place) => place.condition.rate === file.rate && place.take === 1);
  const likely = new Set(file.candidates);
  const ordered = [
    ...fits.filter((one) => likely.has(one.cell_id)),
    ...fits.filter((one) => !likely.has(one.cell_id)),
  ];
  return ordered.map((place) => ({
    value: String(place.cell_id),
    label: `${place.signal}, ${place.setting}`,
    detail: likely.has(place.cell_id) ? "likely" : place.file_id === null ? "missing" : "has a file",
  }));
}

function Places({ kit }: { kit: Kit }) {
  const files = new Map(kit.files.map((file) => [file.id, file]));
  return (
    <Table className="mt-6" title="Expected renders" columns={["Render", "Condition", "File", "Verdict"]}>
      {kit.places.map((place) => (
        <tr key={`${place.cell_id}.${place.take}`}>
          <td>
            <b className="font-semibold">{place.signal}</b> · {place.setting}
            {place.takes > 1 && ` · take ${place.take}`}
          </td>
          <td className="whitespace-nowrap">
            {place.condition.host} {place.condition.host_version}, {place.condition.mode},{" "}
            {kilohertz(place.condition.rate)} kHz
          </td>
          <Came place={place} file={place.file_id === null ? undefined : files.get(place.file_id)} />
        </tr>
      ))}
    </Table>
  );
}

function Came({ place, file }: { place: KitPlace; file: KitFile | undefined }) {
  if (!file && place.state === "failed")
    return (
      <>
        <td className="text-quiet">Not in the kit</td>
        <td className="max-w-80">{place.why}</td>
      </>
    );
  if (!file)
    return (
      <>
        <td>
          <span className="font-medium">Missing</span>
          <p className="text-xs break-all text-quiet">{place.returned_as}</p>
        </td>
        <td />
      </>
    );
  const ready = place.state === "done" || place.state === "failed";
  return (
    <>
      <td>
        <span className="break-all">{file.name}</span>
        <p className="text-xs text-quiet">{file.why}.</p>
      </td>
      <td className="max-w-80">
        {ready ? (
          <Link to={`/cells/${place.cell_id}`} className="underline decoration-line hover:decoration-text">
            {verdictText(place.verdict, place.state)}. {reasonText(place)}
          </Link>
        ) : (
          <span className="text-quiet">Measuring…</span>
        )}
      </td>
    </>
  );
}
