import { useState } from "react";
import { BASE } from "../../api/base";
import { Button } from "../../ui/controls";
import { Labelled, LabelledChoice } from "../../ui/fields";
import { count, number } from "../../ui/numbers";
import { type FileSet, type Level, type SetFile, type Trim, trimOf } from "./queries";

const BY: { value: Level["by"]; label: string; unit: string; usual: number }[] = [
  { value: "rms", label: "RMS", unit: "dBFS", usual: -20 },
  { value: "loudness_integrated", label: "Loudness", unit: "LUFS", usual: -23 },
  { value: "vu_max", label: "VU maximum", unit: "VU", usual: 0 },
  { value: "sample_peak", label: "Sample peak", unit: "dBFS", usual: -1 },
  { value: "true_peak", label: "True peak", unit: "dBTP", usual: -1 },
];
const PASSAGES = [
  { value: "whole", label: "The whole file" },
  { value: "loudest", label: "The loudest 3 s" },
  { value: "first", label: "The first note" },
  { value: "given", label: "From … to …" },
];
const AT_ONCE = 2;

/** Brings files to one level: the sum of each, and copies that have it. */
export function Levels({ set, chosen }: { set: FileSet; chosen: SetFile[] }) {
  const [level, setLevel] = useState<Level>({
    target: -23,
    by: "loudness_integrated",
    passage: "whole",
    start: 0,
    end: 3,
  });
  const [trims, setTrims] = useState<Map<number, Trim>>(new Map());
  const [error, setError] = useState("");
  const [busy, setBusy] = useState(false);
  const measure = BY.find((one) => one.value === level.by);
  const change = (part: Partial<Level>) => {
    setLevel((before) => ({ ...before, ...part }));
    setTrims(new Map());
  };
  const work = async () => {
    setBusy(true);
    setError("");
    setTrims(new Map());
    const left = [...chosen];
    const one = async () => {
      for (let file = left.shift(); file; file = left.shift()) {
        const { id } = file;
        const found = await trimOf(set.id, id, level);
        setTrims((before) => new Map(before).set(id, found));
      }
    };
    try {
      await Promise.all(Array.from({ length: AT_ONCE }, one));
    } catch (problem) {
      setError(problem instanceof Error ? problem.message : String(problem));
    } finally {
      setBusy(false);
    }
  };
  const found = chosen.filter((file) => trims.has(file.id));
  const ready = found.filter((file) => trims.get(file.id)?.trim != null);
  const over = found.filter((file) => (trims.get(file.id)?.peak ?? -1) > 0);
  const query = new URLSearchParams({
    files: ready.map((file) => file.id).join(","),
    target: String(level.target),
    by: level.by,
    passage: level.passage ?? "whole",
    start: String(level.start ?? 0),
    end: String(level.end ?? 0),
  });
  return (
    <section aria-label="Match levels" className="mx-5 mb-3 rounded-md border border-line bg-sheet p-4">
      <form
        className="flex flex-wrap items-end gap-x-5 gap-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          void work();
        }}
      >
        <LabelledChoice
          label="By"
          value={level.by}
          choices={BY}
          onChoose={(by) =>
            change({
              by: by as Level["by"],
              target: BY.find((one) => one.value === by)?.usual ?? level.target,
            })
          }
        />
        <Labelled
          label="Target"
          note={measure?.unit}
          type="number"
          step="any"
          required
          value={level.target}
          onChange={(event) => change({ target: Number(event.target.value) })}
        />
        <LabelledChoice
          label="Over"
          value={level.passage ?? "whole"}
          choices={PASSAGES}
          onChoose={(passage) => change({ passage: passage as NonNullable<Level["passage"]> })}
        />
        {level.passage === "given" && (
          <>
            <Labelled
              label="From"
              note="s"
              type="number"
              step="any"
              min={0}
              value={level.start}
              onChange={(event) => change({ start: Number(event.target.value) })}
            />
            <Labelled
              label="To"
              note="s"
              type="number"
              step="any"
              min={0}
              value={level.end}
              onChange={(event) => change({ end: Number(event.target.value) })}
            />
          </>
        )}
        <Button type="submit" look="main" disabled={busy || chosen.length === 0}>
          Find the trims of {count(chosen.length, "file")}
        </Button>
        {ready.length > 0 && !busy && (
          <a
            href={`${BASE}/api/sets/${set.id}/levelled.zip?${query}`}
            download
            className="inline-flex h-9 items-center rounded-md border border-line bg-sheet px-3 font-medium hover:border-quiet"
          >
            Copies of {count(ready.length, "file")}, ZIP
          </a>
        )}
      </form>
      {error && (
        <p role="alert" className="mt-3">
          {error}
        </p>
      )}
      {over.length > 0 && (
        <p className="mt-3">
          {count(over.length, "file")} would pass full scale; the copies are 32-bit float, so nothing is cut,
          but a file of whole numbers made of them would be.
        </p>
      )}
      {found.length > 0 && (
        <table className="mt-3">
          <thead className="text-left text-xs text-quiet [&_th]:pr-6 [&_th]:font-normal">
            <tr>
              <th scope="col">File</th>
              <th scope="col">target − measured = trim</th>
              <th scope="col" className="text-right">
                error, dB
              </th>
              <th scope="col" className="text-right">
                peak after, dBFS
              </th>
            </tr>
          </thead>
          <tbody>
            {found.map((file) => (
              <TrimRow key={file.id} name={file.name} trim={trims.get(file.id)} unit={measure?.unit ?? ""} />
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

function TrimRow({ name, trim, unit }: { name: string; trim: Trim | undefined; unit: string }) {
  if (!trim) return null;
  return (
    <tr className="border-t border-line [&>td]:py-1 [&>td]:pr-6">
      <td className="font-medium break-all">{name}</td>
      <td className="whitespace-nowrap select-all">
        {trim.trim === null || trim.measured === null
          ? `no level: ${trim.why}`
          : `${number(trim.target, 2)} − ${bracketed(trim.measured)} ${unit} = ${number(trim.trim, 2, true)} dB`}
      </td>
      <td className="text-right">{trim.error === null ? "" : number(trim.error, 3, true)}</td>
      <td className={`text-right ${(trim.peak ?? -1) > 0 ? "font-semibold" : ""}`}>
        {trim.peak === null ? "" : number(trim.peak, 2)}
      </td>
    </tr>
  );
}

const bracketed = (value: number) => (value < 0 ? `(${number(value, 2)})` : number(value, 2));
