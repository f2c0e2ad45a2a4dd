import { useQuery } from "@tanstack/react-query";
import { type DragEvent, useEffect, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import type { NewComparison, Upload } from "../../api/client";
import { sendFile } from "../../api/upload";
import { Button, FileButton, Sentence } from "../../ui/controls";
import { count, dateTime, number } from "../../ui/numbers";
import { useCan, useMe } from "../people/me";
import { comparisonsQuery, useCompare, useDeleteComparison } from "./queries";

type Which = "reference" | "render";
const SIDES: { which: Which; title: string; colour: string }[] = [
  { which: "reference", title: "Reference", colour: "text-reference" },
  { which: "render", title: "Render", colour: "text-render" },
];
const ALIGNS: { value: NonNullable<NewComparison["align"]>; label: string; detail: string }[] = [
  { value: "samples", label: "Whole samples", detail: "the delay is taken off to the nearest sample" },
  { value: "fraction", label: "Fractions too", detail: "the rest of the delay is taken off as well" },
  { value: "none", label: "Nothing", detail: "the files are compared as they are" },
];

interface Slot {
  file: File | undefined;
  share: number;
  upload: Upload | undefined;
  error: string | undefined;
}
const EMPTY: Slot = { file: undefined, share: 0, upload: undefined, error: undefined };

export function ComparePage() {
  const navigate = useNavigate();
  const [slots, setSlots] = useState<Record<Which, Slot>>({ reference: EMPTY, render: EMPTY });
  const [align, setAlign] = useState<NonNullable<NewComparison["align"]>>("samples");
  const [matchGain, setMatchGain] = useState(false);
  const [matchPolarity, setMatchPolarity] = useState(false);
  const [maxDelay, setMaxDelay] = useState("");
  const stops = useRef<Partial<Record<Which, AbortController>>>({});
  const compare = useCompare();
  useEffect(() => () => Object.values(stops.current).forEach((stop) => void stop?.abort()), []);

  const change = (which: Which, slot: Partial<Slot>) =>
    setSlots((before) => ({ ...before, [which]: { ...before[which], ...slot } }));
  const send = async (which: Which, file: File) => {
    stops.current[which]?.abort();
    const stop = new AbortController();
    stops.current[which] = stop;
    compare.reset();
    change(which, { ...EMPTY, file });
    try {
      const upload = await sendFile<Upload>(
        `/api/uploads?name=${encodeURIComponent(file.name)}`,
        file,
        (share) => change(which, { share }),
        stop.signal,
      );
      if (!stop.signal.aborted) change(which, { upload });
    } catch (error) {
      if (stops.current[which] === stop)
        change(which, { error: error instanceof Error ? error.message : String(error) });
    }
  };
  const drop = (event: DragEvent, which: Which) => {
    event.preventDefault();
    event.stopPropagation();
    const [first, second] = event.dataTransfer.files;
    if (first) void send(second ? "reference" : which, first);
    if (second) void send("render", second);
  };
  const { reference, render } = slots;
  const ready = reference.upload && render.upload;
  const begin = () => {
    if (!reference.upload || !render.upload) return;
    compare.mutate(
      {
        reference_id: reference.upload.id,
        render_id: render.upload.id,
        align,
        match_gain: matchGain,
        match_polarity: matchPolarity,
        max_delay: maxDelay === "" ? null : Number(maxDelay),
      },
      { onSuccess: (made) => navigate(`/comparisons/${made.id}`) },
    );
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: a file dropped beside a field must not open in the browser
    <div
      className="overflow-auto pb-8"
      onDragOver={(event) => event.preventDefault()}
      onDrop={(event) => drop(event, reference.file ? "render" : "reference")}
    >
      <div className="px-5 pt-3 pb-3">
        <Sentence>Compare two files of your own.</Sentence>
        <p className="text-quiet">
          WAV, FLAC, AIFF, RF64, W64 or CAF; any rate, 1 or 2 channels, up to 30 minutes. Both at the same
          rate.
        </p>
      </div>
      <div className="grid grid-cols-2 gap-4 px-5">
        {SIDES.map(({ which, title, colour }) => (
          <Drop
            key={which}
            title={title}
            colour={colour}
            slot={slots[which]}
            onFile={(file) => void send(which, file)}
            onDrop={(event) => drop(event, which)}
            onStop={() => stops.current[which]?.abort()}
          />
        ))}
      </div>
      <div className="flex flex-wrap items-start gap-x-10 gap-y-4 px-5 pt-5">
        <fieldset>
          <legend className="pb-1 font-semibold">Taken off before the difference</legend>
          {ALIGNS.map((one) => (
            <label key={one.value} className="flex gap-2 py-0.5">
              <input
                type="radio"
                name="align"
                checked={align === one.value}
                onChange={() => setAlign(one.value)}
                className="accent-text"
              />
              <span>
                {one.label} <span className="text-quiet">— {one.detail}</span>
              </span>
            </label>
          ))}
        </fieldset>
        <fieldset>
          <legend className="pb-1 font-semibold">Also</legend>
          <label className="flex gap-2 py-0.5">
            <input
              type="checkbox"
              checked={matchGain}
              onChange={(event) => setMatchGain(event.target.checked)}
              className="accent-text"
            />
            Bring the render to the reference's level
          </label>
          <label className="flex gap-2 py-0.5">
            <input
              type="checkbox"
              checked={matchPolarity}
              onChange={(event) => setMatchPolarity(event.target.checked)}
              className="accent-text"
            />
            Invert an inverted render back
          </label>
          <label className="flex items-center gap-2 py-0.5">
            Search the delay within
            <input
              type="number"
              min={1}
              value={maxDelay}
              onChange={(event) => setMaxDelay(event.target.value)}
              placeholder="any"
              className="h-7 w-20 rounded border border-quiet bg-sheet px-1.5 text-right"
            />
            samples <span className="text-quiet">— for a steady tone, under half a period</span>
          </label>
        </fieldset>
        <div className="ml-auto self-end">
          <Button look="main" needs="work" disabled={!ready || compare.isPending} onClick={begin}>
            Compare
          </Button>
        </div>
      </div>
      {compare.error && (
        <p role="alert" className="px-5 pt-4">
          {compare.error.message}
        </p>
      )}
      <Recent />
    </div>
  );
}

interface DropProps {
  title: string;
  colour: string;
  slot: Slot;
  onFile: (file: File) => void;
  onDrop: (event: DragEvent) => void;
  onStop: () => void;
}

function Drop({ title, colour, slot, onFile, onDrop, onStop }: DropProps) {
  const [over, setOver] = useState(false);
  const { file, share, upload, error } = slot;
  const sending = file && !upload && !error;
  return (
    <section
      aria-label={title}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false);
        onDrop(event);
      }}
      className={`flex min-h-40 flex-col rounded-md border-2 border-dashed bg-sheet p-4 ${over ? "border-text" : "border-line"}`}
    >
      <h2 className={`font-semibold ${colour}`}>{title}</h2>
      {file ? (
        <>
          <p className="mt-2 font-medium break-all">{file.name}</p>
          {upload && (
            <p className="text-quiet">
              {upload.rate / 1000} kHz, {count(upload.channels, "channel")},{" "}
              {number(upload.frames / upload.rate, 2)} s, {upload.subtype}
            </p>
          )}
          {sending && (
            <p role="status" className="text-quiet">
              {share < 1
                ? `${Math.round(share * 100)} % of ${number(file.size / 1e6, 1)} MB sent`
                : "Sent; being read…"}
            </p>
          )}
          {error && (
            <p role="alert" className="mt-1">
              {error}
            </p>
          )}
        </>
      ) : (
        <p className="mt-2 text-quiet">Drop a file here.</p>
      )}
      <div className="mt-auto flex gap-2 pt-3">
        <FileButton onFiles={([chosen]) => chosen && onFile(chosen)}>
          {file ? "Choose another" : "Choose a file"}
        </FileButton>
        {sending && <Button onClick={onStop}>Stop</Button>}
        {error && file && <Button onClick={() => onFile(file)}>Send again</Button>}
      </div>
    </section>
  );
}

function Recent() {
  const comparisons = useQuery(comparisonsQuery);
  const found = comparisons.data?.comparisons ?? [];
  const me = useMe();
  const keeps = useCan("keep");
  if (found.length === 0) return null;
  return (
    <section className="mt-8 border-t border-line">
      <h2 className="px-5 pt-4 pb-2 font-semibold">Earlier comparisons</h2>
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
              <DeleteButton id={one.id} name={`${one.render} against ${one.reference}`} />
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** Asks once more before it deletes. */
function DeleteButton({ id, name }: { id: number; name: string }) {
  const [sure, setSure] = useState(false);
  const remove = useDeleteComparison();
  return (
    <span className="flex gap-3 whitespace-nowrap">
      {remove.error && <span role="alert">{remove.error.message}</span>}
      {sure && (
        <Button disabled={remove.isPending} onClick={() => remove.mutate(id)}>
          Delete for good
        </Button>
      )}
      <Button aria-label={sure ? `Keep ${name}` : `Delete ${name}`} onClick={() => setSure(!sure)}>
        {sure ? "Keep" : "Delete"}
      </Button>
    </span>
  );
}
