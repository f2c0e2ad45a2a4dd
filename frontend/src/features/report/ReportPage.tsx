import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Cell, Finding, Sheet, Standing } from "../../api/client";
import { Button, Sentence } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { count, day, ended } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { verdictText } from "../../ui/words";
import { StandingText } from "../decisions/StandingText";
import { type RunHeard, runHeardQuery } from "../listening/queries";
import { conditionText } from "../sheet/layout";
import { useSheet } from "../sheet/queries";
import { Heard, type Names } from "./Heard";
import { InkTable } from "./InkTable";

/** Cells that are listed unless every one is asked for. */
const LISTED = 60;

/** A run on paper: what stands, what was found, decided and heard. */
export function ReportPage() {
  const run = Number(useParams().run);
  const sheet = useSheet(run, "", "");
  const heard = useQuery(runHeardQuery(run));
  if (sheet.isPending || heard.isPending) return <Loading what="the report" />;
  if (!sheet.data) return <Failed error={sheet.error} onRetry={() => sheet.refetch()} />;
  if (!heard.data) return <Failed error={heard.error} onRetry={() => heard.refetch()} />;
  return <Report sheet={sheet.data} heard={heard.data} />;
}

function Report({ sheet, heard }: { sheet: Sheet; heard: RunHeard }) {
  const navigate = useNavigate();
  const [all, setAll] = useState(false);
  const { run } = sheet;
  const back = `/runs/${run.id}`;
  useKeys({ p: () => window.print(), Escape: () => navigate(back) });
  const wrong = useMemo(
    () =>
      sheet.cells
        .filter((cell) => cell.verdict !== "Pass")
        .sort((a, b) => Number(b.needs_you) - Number(a.needs_you)),
    [sheet],
  );
  const names = useMemo(() => namesOf(sheet), [sheet]);
  return (
    <div className="min-h-0 flex-1 overflow-auto px-5 pt-3 pb-8 print:overflow-visible print:p-0">
      <div className="flex items-center gap-3 pb-3 print:hidden">
        <Link to={back} className="underline">
          The sheet
        </Link>
        <span className="text-quiet">As it is printed, or kept as a PDF by the browser.</span>
        <div className="ml-auto flex gap-2">
          {wrong.length > LISTED && (
            <Button onClick={() => setAll(!all)}>
              {all ? `List ${LISTED} cells` : `List all ${wrong.length} cells`}
            </Button>
          )}
          <Button look="main" hint="P" onClick={() => window.print()}>
            Print
          </Button>
        </div>
      </div>
      <article
        aria-label="Report"
        className="mx-auto grid max-w-4xl gap-6 border border-line bg-sheet px-10 py-8 print:max-w-none print:border-0 print:p-0"
      >
        <header>
          <Sentence>
            <b className="font-semibold">
              {run.effect} {run.build.version}
            </b>{" "}
            against approved references, in every host, at every rate.
          </Sentence>
          <p className="text-quiet">
            {run.plan}, revision {run.revision}. Started by {run.requested_by}, {day(run.requested_at)}.
            Written {day(new Date().toISOString())}.
          </p>
        </header>
        <Standings sheet={sheet} />
        <section aria-label="Sheet" className="break-inside-avoid">
          <Title>The sheet</Title>
          <InkTable sheet={sheet} />
        </section>
        <Findings sheet={sheet} />
        <Cells cells={all ? wrong : wrong.slice(0, LISTED)} of={wrong.length} names={names} />
        <Heard heard={heard} names={names} />
        <Conditions sheet={sheet} />
      </article>
    </div>
  );
}

function Title({ children }: { children: string }) {
  return <h2 className="border-b border-line pb-1 mb-2 font-semibold break-after-avoid">{children}</h2>;
}

function namesOf(sheet: Sheet): Names {
  const rows = new Map(sheet.cases.map((one) => [one.id, `${one.signal}, ${one.setting}`]));
  const columns = new Map(sheet.conditions.map((one) => [one.id, conditionText(one)]));
  return new Map(
    sheet.cells.map((cell) => [
      cell.id,
      { row: rows.get(cell.case_id) ?? "", column: columns.get(cell.condition_id) ?? "" },
    ]),
  );
}

const VERDICTS: { name: Cell["verdict"]; counted: keyof Sheet["run"]["verdicts"] }[] = [
  { name: "Pass", counted: "passed" },
  { name: "Changed", counted: "changed" },
  { name: "Fail", counted: "failed" },
  { name: "No reading", counted: "no_reading" },
  { name: "Waiting", counted: "waiting" },
];

function Standings({ sheet }: { sheet: Sheet }) {
  const { run, cells, before } = sheet;
  const changed = (change: Cell["change"]) => cells.filter((cell) => cell.change === change).length;
  return (
    <section aria-label="Result" className="break-inside-avoid">
      <p className="text-xl font-semibold">{resultOf(sheet)}</p>
      <dl className="flex flex-wrap gap-x-8 pt-2">
        {VERDICTS.map(({ name, counted }) => (
          <div key={name} className="flex items-baseline gap-2">
            <dt className="text-quiet">
              {name === "Waiting" && run.finished < run.cells ? name : verdictText(name)}
            </dt>
            <dd className="font-semibold">{run.verdicts[counted]}</dd>
          </div>
        ))}
      </dl>
      {before && (
        <p className="pt-1 text-quiet">
          Since {before.version}: {changed("new")} newly failing, {changed("still")} still failing,{" "}
          {changed("fixed")} fixed.
        </p>
      )}
    </section>
  );
}

function resultOf({ run, cells }: Sheet): string {
  const open = cells.filter((cell) => cell.needs_you).length;
  if (run.finished < run.cells)
    return ended(
      `Not finished: ${run.finished} of ${run.cells} cells${run.stopped_by ? `, stopped by ${run.stopped_by}` : ""}`,
    );
  if (open > 0) return `${open} of ${count(run.cells, "cell")} ${open === 1 ? "needs" : "need"} a decision.`;
  if (cells.every((cell) => cell.verdict === "Pass")) return `All ${count(run.cells, "cell")} pass.`;
  return `All ${count(run.cells, "cell")} pass or are decided.`;
}

function Findings({ sheet }: { sheet: Sheet }) {
  const cells = useMemo(() => new Map(sheet.cells.map((cell) => [cell.id, cell])), [sheet]);
  return (
    <section aria-label="Findings">
      <Title>Findings</Title>
      {sheet.findings.length === 0 && <p className="text-quiet">No cell differs from its reference.</p>}
      <ol className="grid gap-3">
        {sheet.findings.map((finding) => (
          <li key={finding.key} className="break-inside-avoid">
            <b className="font-semibold">{finding.headline}</b>
            <span className="text-quiet"> · {verdictText(finding.verdict)}</span>
            <p>
              {count(finding.cells.length, "cell")}, {finding.where}
              {finding.since && `, since ${finding.since}`}.{finding.worst && ` Worst: ${finding.worst}.`}
            </p>
            <Decisions finding={finding} cells={cells} before={finding.before} />
          </li>
        ))}
      </ol>
    </section>
  );
}

/** What was decided of a finding's cells, each decision once. */
function Decisions({
  finding,
  cells,
  before,
}: {
  finding: Finding;
  cells: ReadonlyMap<number, Cell>;
  before: string | null;
}) {
  const made = new Map<number, { standing: Standing; cells: number }>();
  for (const id of finding.cells) {
    const standing = cells.get(id)?.decision;
    if (standing?.holds)
      made.set(standing.act_id, { standing, cells: (made.get(standing.act_id)?.cells ?? 0) + 1 });
  }
  return (
    <>
      {[...made.values()].map(({ standing, cells: decided }) => (
        <p key={standing.act_id}>
          <StandingText standing={standing} />
          {decided < finding.cells.length && ` ${count(decided, "cell")}.`}
        </p>
      ))}
      {finding.undecided > 0 && (
        <p>
          {finding.undecided === finding.cells.length ? "Not decided" : `${finding.undecided} not decided`}
          {before && `; before: ${before}`}.
        </p>
      )}
    </>
  );
}

function Cells({ cells, of, names }: { cells: Cell[]; of: number; names: Names }) {
  if (of === 0) return null;
  return (
    <section aria-label="Cells that do not pass">
      <Title>Cells that do not pass</Title>
      <table className="w-full">
        <thead className="text-left text-xs text-quiet">
          <tr>
            <th className="w-1/3 pr-3 font-normal">Signal, setting and condition</th>
            <th className="pr-3 font-normal">Verdict</th>
            <th className="font-normal">Why, and what was decided</th>
          </tr>
        </thead>
        <tbody>
          {cells.map((cell) => (
            <tr key={cell.id} className="break-inside-avoid border-t border-line align-baseline">
              <td className="py-1 pr-3">
                {names.get(cell.id)?.row}
                <span className="block text-xs text-quiet">{names.get(cell.id)?.column}</span>
              </td>
              <td className="pr-3 whitespace-nowrap">{verdictText(cell.verdict, cell.state)}</td>
              <td className="min-w-0 py-1 break-words">
                {cell.why}
                {cell.decision?.holds && (
                  <span className="block text-xs text-quiet">
                    <StandingText standing={cell.decision} />
                  </span>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {cells.length < of && <p className="pt-1 text-quiet">{of - cells.length} more are not listed.</p>}
    </section>
  );
}

function Conditions({ sheet }: { sheet: Sheet }) {
  return (
    <section aria-label="Conditions">
      <Title>Conditions</Title>
      <ul className="columns-2 gap-8 text-xs leading-5 text-quiet">
        {sheet.conditions.map((one) => (
          <li key={one.id}>
            {conditionText(one)}, blocks of {one.block_size}, {count(one.channels, "channel")},{" "}
            {one.word_length}
          </li>
        ))}
      </ul>
    </section>
  );
}
