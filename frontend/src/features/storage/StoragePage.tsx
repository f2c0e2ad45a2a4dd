import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useCan } from "../../api/me";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
import { count, dateTime, megabytes, number, sentenceCase } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { column, Table } from "../../ui/Table";
import { dryRunQuery, type Rule, type Share, storageQuery, useDrop, useSetRule } from "./queries";

/** What takes the space, and for administrators the rule: how long audio is kept, and how much there may be. */
export function StoragePage() {
  const storage = useQuery(storageQuery);
  const keeps = useCan("keep");
  if (storage.isPending) return <Loading what="what takes the space" />;
  if (!storage.data) return <Failed error={storage.error} onRetry={() => storage.refetch()} />;
  const { space, rule, own } = storage.data;
  const whole = space.parts.reduce((sum, part) => sum + part.bytes, 0);
  const audio = space.parts
    .filter((part) => part.name.includes("audio") || part.name.includes("own files"))
    .reduce((sum, part) => sum + part.bytes, 0);
  return (
    <div className="overflow-auto pb-8">
      <header className="px-5 pt-4 pb-3">
        <h1 className="text-xl leading-9 font-light text-balance">
          {megabytes(whole)} are used, {megabytes(audio)} of them by audio.
        </h1>
        <p className="text-quiet">
          Unpacked, the audio would take {megabytes(space.raw)}.{" "}
          {space.dropped > 0 && `Of ${count(space.dropped, "piece")} the audio was dropped. `}
          {ownText(own.bytes, own.most)}
        </p>
      </header>
      {keeps && <RuleForm key={rule.changed_at} rule={rule} by={rule.changed_by} at={rule.changed_at} />}
      <Shares title="What it is" shares={space.parts} whole={whole} />
      <Shares
        title="Audio by plan"
        note="what several plans share counts in each"
        shares={space.plans.map((one) => ({ ...one, name: `${one.effect}, ${one.plan}` }))}
        whole={whole}
      />
      <Shares title="Files by person" shares={space.people} whole={whole} />
    </div>
  );
}

const bySize = (shares: Share[]): Share[] => [...shares].sort((a, b) => b.bytes - a.bytes);

function ownText(held: number, most: number | null): string {
  if (most === null) return held > 0 ? `Your own files take ${megabytes(held)}.` : "";
  return `Your own files take ${megabytes(held)} of the ${megabytes(most)} that one person's may.`;
}

function Shares({
  title,
  note,
  shares,
  whole,
}: {
  title: string;
  note?: string;
  shares: Share[];
  whole: number;
}) {
  if (shares.length === 0) return null;
  return (
    <section className="mt-4">
      <h2 className="px-5 pb-1 font-semibold">
        {title} {note && <span className="font-normal text-quiet">({note})</span>}
      </h2>
      <Table
        columns={[
          "Part",
          column("Pieces", "w-32 text-right"),
          column("Space", "w-32 text-right"),
          { head: <span className="sr-only">Share of all</span>, name: "Share of all", className: "w-[40%]" },
        ]}
      >
        {bySize(shares).map((share) => (
          <tr key={share.name}>
            <td>{sentenceCase(share.name)}</td>
            <td className="text-right tabular-nums">
              {share.pieces === null ? "" : number(share.pieces, 0)}
            </td>
            <td className="text-right tabular-nums">{megabytes(share.bytes)}</td>
            <td className="align-middle!">
              <div
                className="h-2 rounded-sm bg-quiet"
                style={{ width: `${(100 * share.bytes) / Math.max(1, whole)}%` }}
              />
            </td>
          </tr>
        ))}
      </Table>
    </section>
  );
}

const read = (text: string): number | null => (text.trim() === "" ? null : Number(text));
const shown = (value: number | null): string => (value === null ? "" : String(value));

function RuleForm({ rule, by, at }: { rule: Rule; by: string; at: string | null }) {
  const [runs, setRuns] = useState(shown(rule.keep_runs));
  const [person, setPerson] = useState(shown(rule.person_gigabytes));
  const [all, setAll] = useState(shown(rule.all_gigabytes));
  const set = useSetRule();
  const drop = useDrop();
  const tried = read(runs);
  const valid = tried !== null && Number.isInteger(tried) && tried >= 1;
  const dry = useQuery({ ...dryRunQuery(valid ? tried : 1), enabled: valid });
  const changed =
    tried !== rule.keep_runs || read(person) !== rule.person_gigabytes || read(all) !== rule.all_gigabytes;
  const error = set.error ?? drop.error;
  return (
    <form
      className="border-y border-line bg-sheet px-5 py-4"
      onSubmit={(event) => {
        event.preventDefault();
        set.mutate({ keep_runs: tried, person_gigabytes: read(person), all_gigabytes: read(all) });
      }}
    >
      <h2 className="font-semibold">Rule</h2>
      <p className="mt-1 text-quiet">
        Audio of references, of own files, and of renders that fail, differ or wait is never dropped;
        readings, verdicts and waveforms always stay. An empty field is no limit.
      </p>
      <div className="mt-3 flex flex-wrap items-end gap-x-4 gap-y-2">
        <Labelled
          label="Newest runs of a plan that keep the audio of passed renders"
          type="number"
          min={1}
          max={10000}
          step={1}
          value={runs}
          onChange={(event) => setRuns(event.target.value)}
        />
        <Labelled
          label="Most for one person"
          note="GB"
          type="number"
          min={0.001}
          step="any"
          value={person}
          onChange={(event) => setPerson(event.target.value)}
        />
        <Labelled
          label="Most for all audio"
          note="GB"
          type="number"
          min={0.001}
          step="any"
          value={all}
          onChange={(event) => setAll(event.target.value)}
        />
        <Button look="main" type="submit" disabled={!changed || set.isPending}>
          Set the rule
        </Button>
        {rule.keep_runs !== null && !changed && (
          <Button
            type="button"
            disabled={drop.isPending || dry.data?.pieces === 0}
            onClick={() => drop.mutate(undefined)}
          >
            Drop now
          </Button>
        )}
      </div>
      <p className="mt-3" aria-live="polite">
        {!valid && "No audio is dropped."}
        {valid &&
          dry.data &&
          (dry.data.pieces === 0
            ? "With this rule nothing would be dropped now."
            : `With this rule ${count(dry.data.pieces, "piece")} of audio, ${megabytes(dry.data.bytes)}, would be dropped${changed ? "" : " within a day"}.`)}
        {drop.isSuccess && " A worker is at it."}
      </p>
      {error && (
        <p role="alert" className="mt-2">
          {error.message}
        </p>
      )}
      {at && (
        <p className="mt-2 text-quiet">
          Set by {by}, {dateTime(at)}.
        </p>
      )}
    </form>
  );
}
