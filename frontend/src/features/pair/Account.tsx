import type { Cause, Pair } from "../../api/client";
import { number } from "../../ui/numbers";

const LOWEST = -160;

interface Row {
  key: string;
  words: string;
  /** dBFS that are left once this and what stands over it are undone; null where it cannot be undone. */
  left: number | null;
}

/** Causes: each cause that was found, and the residual that is left once it is undone. */
export function Account({ pair }: { pair: Pair }) {
  const raw = pair.readings.find((one) => one.measure === "account_raw" && one.channel === "all")?.value;
  if (pair.causes.length === 0 || pair.causes.some((one) => one.cause === "none")) return null;
  const rows = rowsOf(pair.causes, raw ?? null);
  const top = Math.max(raw ?? LOWEST, LOWEST + 1);
  return (
    <section aria-label="Causes" className="mb-5">
      <h2 className="font-semibold">Causes</h2>
      <ol className="mt-1">
        {rows.map((row, i) => (
          <li key={row.key} className="py-1">
            <div className="flex items-baseline justify-between gap-3">
              <span className={`leading-5 ${i === 0 ? "text-quiet" : "first-letter:uppercase"}`}>
                {row.words}
              </span>
              <span className="shrink-0 font-medium">{row.left === null ? "" : number(row.left, 1)}</span>
            </div>
            {row.left !== null && (
              <div aria-hidden="true" className="mt-0.5 h-2.5">
                <div
                  className={`h-full ${i === 0 ? "hatch-changed" : "bg-difference"}`}
                  style={{ width: `${width(row.left, top)}%` }}
                />
              </div>
            )}
          </li>
        ))}
      </ol>
      {rows.some((row) => row.left !== null) && (
        <p className="mt-1 text-right text-xs text-quiet">residual once each is undone, RMS in dBFS, AES17</p>
      )}
    </section>
  );
}

function rowsOf(causes: Cause[], raw: number | null): Row[] {
  const rows: Row[] = raw === null ? [] : [{ key: "raw", words: "as rendered", left: raw }];
  let left = raw;
  for (const cause of causes) {
    const undone = left !== null && cause.takes_off !== null;
    if (left !== null && cause.takes_off !== null) left = Math.max(LOWEST, left - cause.takes_off);
    rows.push({
      key: `${cause.cause} ${cause.channel} ${cause.start ?? ""}`,
      words: cause.words,
      left: undone ? left : null,
    });
  }
  return rows;
}

const width = (level: number, top: number) =>
  Math.max(1, Math.min(100, (100 * (level - LOWEST)) / (top - LOWEST)));
