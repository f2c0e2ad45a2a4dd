import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { PlanDocument, Schemas } from "../../api/client";
import { useCan } from "../../api/me";
import { Button, Word } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { count } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { column, Table } from "../../ui/Table";
import { plainCase } from "./document";
import { Choose, Quietly } from "./fields";
import { faultsQuery, sensitivityQuery } from "./queries";

type Answer = Schemas["SensitivityBody"];
type Row = Schemas["SensitivityRowBody"];
type Column = Schemas["ColumnBody"];
type Wanted = Record<string, number>;

const MOST_WRITTEN = 4;

/** From which size on planted faults would be noticed by the plan as it stands here, kept or not. */
export function Sensitivity({
  document,
  onChange,
}: {
  document: PlanDocument;
  onChange: (change: Partial<PlanDocument>) => void;
}) {
  const faults = useQuery(faultsQuery);
  const may = useCan("work");
  const [own, setOwn] = useState<Wanted>();
  const wanted = own ?? faults.data?.wanted;
  const found = useQuery({ ...sensitivityQuery(document, wanted), enabled: may && wanted !== undefined });
  if (!may) return <p className="px-5 py-4 text-quiet">Viewers cannot start this; an engineer can.</p>;
  if (!faults.data || !wanted) return <Loading what="the faults" />;
  return (
    <div className="px-5 py-4">
      <p className="max-w-[62rem] text-quiet">
        Faults of growing size are planted into copies of the approved references, and judged by the limits of
        this plan. Nothing is rendered. A run notices what fails, or has no reading.
      </p>
      <Cared faults={faults.data.faults} wanted={wanted} onChange={setOwn} />
      {found.error && <Failed error={found.error} onRetry={() => found.refetch()} />}
      {found.data && <Told answer={found.data} document={document} onChange={onChange} />}
    </div>
  );
}

/** The sizes that the team cares about. */
function Cared({
  faults,
  wanted,
  onChange,
}: {
  faults: Schemas["FaultBody"][];
  wanted: Wanted;
  onChange: (wanted: Wanted) => void;
}) {
  const free = faults.filter((one) => !(one.key in wanted));
  return (
    <div className="mt-3 mb-1 flex flex-wrap items-center gap-x-5 gap-y-2">
      <span>We care about</span>
      {faults
        .filter((one) => one.key in wanted)
        .map((one) => (
          <span key={one.key} className="flex items-center gap-1.5">
            {one.unit ? (
              <label className="flex items-center gap-1.5">
                {one.title}
                <input
                  type="number"
                  aria-label={`${one.title}, ${one.unit}`}
                  step="any"
                  min={one.least}
                  max={one.most}
                  defaultValue={wanted[one.key]}
                  onBlur={(event) => {
                    const size = Number(event.target.value);
                    if (event.target.value !== "" && size >= one.least && size <= one.most)
                      onChange({ ...wanted, [one.key]: size });
                  }}
                  onKeyDown={(event) => event.key === "Enter" && event.currentTarget.blur()}
                  className={`${FIELD} w-20`}
                />
                <span className="text-quiet">{one.unit}</span>
              </label>
            ) : (
              one.title
            )}
            <Quietly
              onClick={() =>
                onChange(Object.fromEntries(Object.entries(wanted).filter(([key]) => key !== one.key)))
              }
            >
              <span className="sr-only">{one.title}: </span>remove
            </Quietly>
          </span>
        ))}
      <Choose
        label="Another fault that we care about"
        value=""
        any="and about…"
        choices={free.map((one) => one.title)}
        onChange={(title) => {
          const one = free.find((other) => other.title === title);
          if (one) onChange({ ...wanted, [one.key]: one.unit ? usual(one) : 1 });
        }}
      />
    </div>
  );
}

/** A size to begin with: −100 dB of a level, else 1, as far as there is such a size. */
const usual = ({ unit, least, most }: Schemas["FaultBody"]) =>
  Math.min(most, Math.max(least, unit.startsWith("dB") && least < 0 ? -100 : unit === "dB" ? 0.1 : 1));

function Told({
  answer,
  document,
  onChange,
}: {
  answer: Answer;
  document: PlanDocument;
  onChange: (change: Partial<PlanDocument>) => void;
}) {
  const [by, setBy] = useState<"case" | "condition">("condition");
  if (answer.cells === answer.without)
    return (
      <p className="mt-4">
        No render is approved for any of its {count(answer.cells, "cell")} yet: run the plan, and approve what
        is right.
      </p>
    );
  if (answer.rows.length === 0)
    return (
      <p role="status" className="mt-4">
        {answer.failed.length === answer.cells - answer.without
          ? `Nothing could be found of any cell: ${answer.failed[0]?.why}`
          : `${answer.known} of ${count(answer.cells - answer.without, "cell")} planted…`}
      </p>
    );
  const gaps = answer.rows.filter((row) => !row.is_noticed || row.is_met === false);
  const columns = by === "case" ? answer.by_case : answer.by_condition;
  return (
    <>
      <p role="status" className="mt-3 text-lg">
        {answer.summary}
      </p>
      <p className="text-quiet">
        {answer.without > 0 && `${count(answer.without, "cell")} have no approved reference. `}
        {answer.failed.length > 0 &&
          `Nothing could be found of ${count(answer.failed.length, "cell")}: ${answer.failed[0]?.why}. `}
        {answer.cover}
        {answer.spare.length > 0 && ` Spare: ${answer.spare.join("; ")}.`}
      </p>
      {gaps.length > 0 && (
        <section aria-label="What no cell notices">
          <h2 className="mt-4 font-semibold">What it would miss</h2>
          <ul>
            {gaps.map((row) => (
              <Gap key={row.fault} row={row} document={document} onChange={onChange} />
            ))}
          </ul>
        </section>
      )}
      <h2 className="mt-5 mb-1 font-semibold">
        The least size that is noticed, by{" "}
        <Word
          name="Columns"
          value={by}
          choices={[
            { value: "condition", label: "condition" },
            { value: "case", label: "case" },
          ]}
          onChoose={(value) => setBy(value === "case" ? "case" : "condition")}
        />
      </h2>
      <Sizes rows={answer.rows} columns={columns} />
    </>
  );
}

/** A fault that passes, and what would close the gap. */
function Gap({
  row,
  document,
  onChange,
}: {
  row: Row;
  document: PlanDocument;
  onChange: (change: Partial<PlanDocument>) => void;
}) {
  const { limit } = row;
  const setting = document.cases[0]?.setting;
  // A signal of two channels goes with conditions of two.
  const fits = ({ request }: Row["shows_in"][number]) =>
    request.channels !== 2 || document.conditions.every((one) => one.channels === 2);
  const elsewhere = row.shows_in.filter((one) => !fits(one)).map((one) => one.title.toLowerCase());
  return (
    <li className="flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-line py-1.5">
      <span>
        {row.sentence}
        {row.is_met === false && row.is_noticed && ` ${row.wanted} is wanted.`}
      </span>
      {elsewhere.length > 0 && (
        <span className="text-quiet">
          It shows in {elsewhere.join(", ")}, under conditions of two channels.
        </span>
      )}
      {limit !== null && (
        <Button
          small
          onClick={() =>
            onChange({
              limits: {
                ...document.limits,
                residual_rms: {
                  at_least: null,
                  at_most: limit,
                  because: `notices ${row.wanted} of ${row.title}`,
                },
              },
            })
          }
        >
          Hold the residual to {minus(limit)} dBFS
        </Button>
      )}
      {setting !== undefined &&
        row.shows_in.filter(fits).map(({ title, request }) => (
          <Button
            key={title}
            small
            onClick={() =>
              onChange({
                signals: { ...document.signals, [title]: request },
                cases: [...document.cases, plainCase(title, setting)],
              })
            }
          >
            Add a case: {title}
          </Button>
        ))}
    </li>
  );
}

const minus = (value: number) => String(value).replace("-", "−");

function Sizes({ rows, columns }: { rows: Row[]; columns: Column[] }) {
  const written = columns.length <= MOST_WRITTEN;
  return (
    <div className="-mx-5 overflow-x-auto">
      <Table
        caption="The least size of each fault that is noticed"
        columns={[
          "Fault",
          column("Anywhere", "text-right"),
          "By",
          ...columns.map(({ name }) => ({
            head: name,
            name,
            title: name,
            className: written ? "" : "max-w-8 truncate px-0.5!",
          })),
        ]}
      >
        {rows.map((row, i) => (
          <tr key={row.fault}>
            <td className="font-semibold whitespace-nowrap">{row.title}</td>
            <td className="text-right whitespace-nowrap">{row.text}</td>
            <td className="whitespace-nowrap text-quiet">{row.by}</td>
            {columns.map((column) => {
              const place = column.places[i];
              return (
                place && <Place key={column.name} place={place} column={column.name} written={written} />
              );
            })}
          </tr>
        ))}
      </Table>
    </div>
  );
}

/** The more ink, the coarser: full where a fault passes. */
function Place({
  place,
  column,
  written,
}: {
  place: Schemas["LeastBody"];
  column: string;
  written: boolean;
}) {
  const told = `${column}: ${place.text}${place.by && `, by ${place.by}`}`;
  return (
    <td title={told} className={`relative ${written ? "whitespace-nowrap" : "h-7 min-w-4 px-0.5!"}`}>
      <span
        aria-hidden="true"
        className={`absolute bottom-0 left-0 bg-difference ${written ? "h-0.5" : "inset-x-0.5"}`}
        style={written ? { width: `${place.ink * 100}%` } : { height: `${place.ink * 100}%` }}
      />
      <span className={written ? "" : "sr-only"}>{place.text}</span>
    </td>
  );
}
