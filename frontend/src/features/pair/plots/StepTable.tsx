import type { Curve } from "../../../api/client";
import { number } from "../../../ui/numbers";
import { curveOf } from "./toneLines";

const COLUMNS = [
  { name: "transfer_expected", label: "expected" },
  { name: "transfer", label: "tone" },
  { name: "transfer_error", label: "error, dB", signed: true },
  { name: "transfer_rms", label: "RMS" },
  { name: "transfer_peak", label: "peak" },
  { name: "transfer_loudness", label: "loudness, LUFS" },
] as const;

/** What comes out at each step of a staircase, by every kind of level: effects differ on just these. */
export function StepTable({ curves }: { curves: Curve[] }) {
  const side = curveOf(curves, "transfer", "render") ? "render" : "reference";
  const levels = curveOf(curves, "transfer", side);
  const columns = COLUMNS.flatMap((column) => {
    const curve = curveOf(curves, column.name, side);
    return curve ? [{ ...column, y: curve.y }] : [];
  });
  if (!levels || columns.length < 2) return null;
  return (
    <section
      aria-label="Levels of each step"
      // biome-ignore lint/a11y/noNoninteractiveTabindex: it scrolls by keys
      tabIndex={0}
      className="mt-1 ml-[7.5rem] max-h-36 min-h-24 overflow-y-auto border-t border-line text-xs"
    >
      <table className="w-full">
        <thead className="sticky top-0 bg-ground text-quiet">
          <tr>
            <th className="py-1 text-right font-normal">in, dBFS</th>
            {columns.map(({ name, label }) => (
              <th key={name} className="py-1 text-right font-normal">
                {label}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {levels.x.map((level, i) => (
            <tr key={level}>
              <td className="py-0.5 text-right text-quiet">{number(level, 1)}</td>
              {columns.map((column) => (
                <td
                  key={column.name}
                  className={`py-0.5 text-right ${column.name === "transfer_error" ? "font-semibold" : ""}`}
                >
                  {number(column.y[i] ?? 0, 2, "signed" in column)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
