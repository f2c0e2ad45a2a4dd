import { day, number } from "../../ui/numbers";
import { KINDS, type Odds, type RunHeard } from "../listening/queries";

/** What each cell is, by its number. */
export type Names = ReadonlyMap<number, { row: string; column: string }>;

/** What people noted while they listened, and what listening tests of the run's cells came to. */
export function Heard({ heard: { notes, tests }, names }: { heard: RunHeard; names: Names }) {
  const nameOf = (cell: number | null) => {
    const name = cell === null ? undefined : names.get(cell);
    return name ? `${name.row}, ${name.column}` : "several cells";
  };
  return (
    <section aria-label="Heard">
      <h2 className="mb-2 border-b border-line pb-1 font-semibold break-after-avoid">Heard</h2>
      {notes.length + tests.length === 0 && (
        <p className="text-quiet">Nothing was noted while listening, and no listening test was made.</p>
      )}
      <ul className="grid gap-3">
        {tests.map(({ cell_id, test, results }) => (
          <li key={`test ${test.id}`} className="break-inside-avoid">
            <b className="font-semibold">{test.name}</b>
            <span className="text-quiet">
              {" "}
              · {KINDS[test.kind]}, {nameOf(cell_id)}
            </span>
            {results === null ? (
              <p>Results are hidden until {day(test.until ?? "")}.</p>
            ) : results.sittings.length === 0 ? (
              <p>Nobody has sat down to it yet.</p>
            ) : (
              <Results results={results} />
            )}
          </li>
        ))}
        {notes.map(({ cell_id, note }) => (
          <li key={`note ${note.id}`} className="break-inside-avoid">
            {note.text}
            <span className="block text-xs text-quiet">
              {note.side}
              {note.second !== null && `, ${number(note.second, 2)} s`}, {nameOf(cell_id)} · {note.who},{" "}
              {day(note.written_at)}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Results({ results }: { results: NonNullable<RunHeard["tests"][number]["results"]> }) {
  const { sittings, pooled, means, screened } = results;
  const alone = sittings.filter((one) => one.state === "done" && one.trials === 0 && one.odds);
  const broken = sittings.filter((one) => one.state === "broken off").length;
  return (
    <>
      {pooled && (
        <p>
          {sittings.length > 1 ? "All sittings, added up: " : `${sittings[0]?.who}: `}
          {said(pooled)}
        </p>
      )}
      {alone.map((one) => (
        <p key={one.sitting_id}>
          {one.who}, until a bound: {one.odds && said(one.odds)}
        </p>
      ))}
      {means.map((one) => (
        <p key={one.side}>
          {one.side}: mean grade {number(one.mean, 1)}
          {one.low !== null && one.high !== null && (
            <>
              , 95 % interval {number(one.low, 1)} to {number(one.high, 1)}
            </>
          )}
          , n = {one.count}
        </p>
      ))}
      {screened.map((one) => (
        <p key={one.listener}>
          {one.listener} does not count: {one.why}.
        </p>
      ))}
      {broken > 0 && <p>{broken} broken off, not counted.</p>}
    </>
  );
}

function said(odds: Odds): string {
  const p = odds.p === null ? "" : ` p = ${odds.p < 0.001 ? odds.p.toExponential(1) : number(odds.p, 3)}.`;
  return `${odds.correct} of ${odds.trials} right.${p} ${odds.words}`;
}
