import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Limit, Measure } from "../../api/client";
import { useCan } from "../../api/me";
import { measuresQuery } from "../../api/measures";
import { Checkbox } from "../../ui/Checkbox";
import { Button, buttonLook } from "../../ui/controls";
import { Menu } from "../../ui/Menu";
import { count, kilohertz, limitText, number, sentenceCase, valueText } from "../../ui/numbers";
import { Popover } from "../../ui/Popover";
import type { FileSet, SetChange, SetFile } from "./queries";
import { type Order, sorted } from "./sorting";

/** A row a file: what it is, the measures that were chosen, and a few words of cause. */
export function FileTable({
  set,
  marked,
  onMark,
  onChange,
}: {
  set: FileSet;
  marked: ReadonlySet<number>;
  onMark: (to: ReadonlySet<number>) => void;
  onChange: (to: SetChange) => void;
}) {
  const measures = useQuery(measuresQuery);
  const [order, setOrder] = useState<Order>();
  const [asChange, setAsChange] = useState(false);
  const works = useCan("work");
  if (!measures.data) return null;
  const known = new Map(measures.data.measures.map((one) => [one.key, one]));
  const columns = set.columns.flatMap((key) => known.get(key) ?? []);
  const hasReference = set.files.some((file) => file.role === "reference");
  const grouped = set.files.some((file) => file.folder);
  const files = sorted(set.files, order);
  const all = set.files.length > 0 && set.files.every((file) => marked.has(file.id));
  const turn = (id: number) => {
    const next = new Set(marked);
    if (!next.delete(id)) next.add(id);
    onMark(next);
  };
  const sortBy = ({ key, better }: Measure) =>
    setOrder((now) => ({ key, upwards: now?.key === key ? !now.upwards : better === "more" }));
  return (
    <div className="min-h-0 flex-1 overflow-auto border-t border-line">
      <table className="min-w-full">
        <thead className="sticky top-0 z-10 bg-ground text-left align-bottom text-xs text-quiet [&_th]:px-3 [&_th]:py-2 [&_th]:font-normal">
          <tr>
            <th scope="col" className="w-px pl-5!">
              <Checkbox
                name="Mark all files"
                checked={all}
                onChange={() => onMark(all ? new Set() : new Set(set.files.map((file) => file.id)))}
              />
            </th>
            <th scope="col">
              <span className="flex items-center gap-2">
                File
                <Columns set={set} known={known} onChange={onChange} />
                {hasReference && (
                  <Button small aria-pressed={asChange} onClick={() => setAsChange(!asChange)}>
                    {asChange ? "As measured" : "As change from the reference"}
                  </Button>
                )}
              </span>
            </th>
            {columns.map((measure) => (
              <Head
                key={measure.key}
                measure={measure}
                limit={set.limits[measure.key]}
                order={order?.key === measure.key ? order : undefined}
                onSort={() => sortBy(measure)}
                onLimit={
                  works
                    ? (limit) => onChange({ limits: withLimit(set.limits, measure.key, limit) })
                    : undefined
                }
              />
            ))}
            <th scope="col" className="pr-5!">
              {hasReference ? "Causes" : "Note"}
            </th>
          </tr>
        </thead>
        <tbody>
          {files.map((file, i) => (
            <Row
              key={file.id}
              file={file}
              set={set}
              columns={columns}
              asChange={asChange}
              marked={marked.has(file.id)}
              onMark={() => turn(file.id)}
              head={grouped && !order && file.folder !== files[i - 1]?.folder ? file.folder : undefined}
            />
          ))}
        </tbody>
      </table>
    </div>
  );
}

function withLimit(limits: FileSet["limits"], key: string, limit: Limit | undefined): FileSet["limits"] {
  const { [key]: _, ...rest } = limits;
  return limit ? { ...rest, [key]: limit } : rest;
}

function Row({
  file,
  set,
  columns,
  asChange,
  marked,
  onMark,
  head,
}: {
  file: SetFile;
  set: FileSet;
  columns: Measure[];
  asChange: boolean;
  marked: boolean;
  onMark: () => void;
  head: string | undefined;
}) {
  const to = file.comparison_id ? `/comparisons/${file.comparison_id}` : `/files/${set.id}/${file.id}`;
  const format = `${kilohertz(file.rate)} kHz, ${file.channels === 1 ? "mono" : file.channels === 2 ? "stereo" : count(file.channels, "channel")}, ${number(file.frames / file.rate, 2)} s, ${word(file.subtype)}`;
  return (
    <>
      {head !== undefined && (
        <tr className="border-t border-line">
          <th
            scope="colgroup"
            colSpan={columns.length + 3}
            className="px-5 pt-3 pb-1 text-left font-semibold"
          >
            {head || "No folder"}
          </th>
        </tr>
      )}
      <tr
        className={`border-t border-line align-top [&>td]:px-3 [&>td]:py-1.5 ${marked ? "bg-ground" : "bg-sheet"}`}
      >
        <td className="pl-5!">
          <Checkbox name={`Mark ${file.name}`} checked={marked} onChange={onMark} />
        </td>
        <td className="max-w-96">
          <Link to={to} className="font-medium break-all hover:underline">
            {file.name}
          </Link>
          {file.role !== "file" && (
            <span className="ml-2 text-xs font-semibold text-reference">
              {file.role === "reference" ? "reference" : "input signal"}
            </span>
          )}
          <p className="text-xs text-quiet">{format}</p>
        </td>
        {columns.map((measure) => (
          <Figure key={measure.key} file={file} measure={measure} asChange={asChange} />
        ))}
        <td className="min-w-56 pr-5! text-quiet">
          {file.state === "measuring" ? (
            <span role="status">{file.why ? sentenceCase(file.why) : "being measured…"}</span>
          ) : (
            <span className={file.state === "failed" ? "text-text" : ""}>{sentenceCase(file.why)}</span>
          )}
        </td>
      </tr>
    </>
  );
}

function Figure({ file, measure, asChange }: { file: SetFile; measure: Measure; asChange: boolean }) {
  const reading = file.readings[measure.key];
  if (!reading) return <td />;
  const broken = reading.judgement === "broken";
  const value = asChange && reading.change !== null ? reading.change : reading.value;
  return (
    <td
      title={reading.why ?? undefined}
      className={`text-right whitespace-nowrap ${broken ? "font-semibold text-difference" : ""}`}
    >
      {value === null
        ? reading.reason === "null"
          ? "null"
          : "—"
        : asChange && measure.drawing !== "flag"
          ? number(value, measure.decimals, true)
          : valueText({ value }, measure)}
      {broken && <span className="sr-only"> beyond its limit</span>}
    </td>
  );
}

function Head({
  measure,
  limit,
  order,
  onSort,
  onLimit,
}: {
  measure: Measure;
  limit: Limit | undefined;
  order: Order | undefined;
  onSort: () => void;
  onLimit: ((limit: Limit | undefined) => void) | undefined;
}) {
  return (
    <th
      scope="col"
      aria-sort={order ? (order.upwards ? "ascending" : "descending") : "none"}
      className="max-w-28 text-right"
    >
      <button
        type="button"
        title={measure.definition}
        onClick={onSort}
        className="min-h-6 text-right leading-4 hover:text-text"
      >
        <span className={order ? "font-semibold text-text" : ""}>{measure.title}</span>
        {measure.unit && <span>, {measure.unit}</span>}
        <span aria-hidden="true">{order ? (order.upwards ? " ↑" : " ↓") : ""}</span>
      </button>
      {onLimit ? (
        <Popover
          name={`Limit of ${measure.title}`}
          label={limit ? limitText(limit, measure) : "limit…"}
          className="block min-h-6 w-full text-right underline decoration-line decoration-dotted underline-offset-4 hover:text-text"
        >
          {(close) => (
            <LimitForm
              limit={limit}
              title={measure.title}
              onKeep={(to) => {
                close();
                onLimit(to);
              }}
            />
          )}
        </Popover>
      ) : (
        limit && <span className="block">{limitText(limit, measure)}</span>
      )}
    </th>
  );
}

function LimitForm({
  limit,
  title,
  onKeep,
}: {
  limit: Limit | undefined;
  title: string;
  onKeep: (limit: Limit | undefined) => void;
}) {
  const [low, setLow] = useState(limit?.at_least == null ? "" : String(limit.at_least));
  const [high, setHigh] = useState(limit?.at_most == null ? "" : String(limit.at_most));
  const field = "h-7 w-20 rounded border border-quiet bg-sheet px-1 text-right text-text";
  return (
    <form
      className="grid justify-items-end gap-1.5"
      onSubmit={(event) => {
        event.preventDefault();
        const to = {
          at_least: low === "" ? null : Number(low),
          at_most: high === "" ? null : Number(high),
        };
        onKeep(to.at_least === null && to.at_most === null ? undefined : to);
      }}
    >
      <label>
        ≥{" "}
        <input
          aria-label={`${title} at least`}
          type="number"
          step="any"
          value={low}
          onChange={(event) => setLow(event.target.value)}
          className={field}
        />
      </label>
      <label>
        ≤{" "}
        <input
          aria-label={`${title} at most`}
          type="number"
          step="any"
          value={high}
          onChange={(event) => setHigh(event.target.value)}
          className={field}
        />
      </label>
      <Button type="submit" small>
        Save
      </Button>
    </form>
  );
}

/** Which measures are columns, among those that any of the files has. */
function Columns({
  set,
  known,
  onChange,
}: {
  set: FileSet;
  known: Map<string, Measure>;
  onChange: (to: SetChange) => void;
}) {
  const works = useCan("work");
  if (!works) return null;
  const shown = new Set(set.columns);
  const turn = (key: string) =>
    onChange({ columns: shown.has(key) ? set.columns.filter((one) => one !== key) : [...set.columns, key] });
  return (
    <Menu
      className={buttonLook({ small: true })}
      items={[
        {
          kind: "act",
          label: "What the files are measured for",
          disabled: !set.chosen,
          onSelect: () => onChange({ columns: [] }),
        },
        { kind: "line" },
        ...set.measured.map(
          (key) =>
            ({
              kind: "check",
              label: known.get(key)?.title ?? key,
              checked: shown.has(key),
              onSelect: () => turn(key),
            }) as const,
        ),
      ]}
    >
      Columns…
    </Menu>
  );
}

/** The word length as people say it. */
function word(subtype: string): string {
  const [kind, bits] = subtype.split("_");
  if (kind === "PCM") return `${bits} bit`;
  return (
    { FLOAT: "32 bit float", DOUBLE: "64 bit float", MPEG: "MP3", VORBIS: "Ogg Vorbis", OPUS: "Opus" }[
      kind ?? ""
    ] ?? subtype
  );
}
