import type { Pair, Reading } from "../api/client";
import { count, number } from "../parts/numbers";

const STEPS = ["raw", "delay", "polarity", "gain", "fraction", "filter", "remainder"] as const;
const LOWEST = -160;

/** What explains the difference: the residual after each step, as bars that shrink, and a line in words. */
export function Account({ pair }: { pair: Pair }) {
  const found = (key: string) => pair.readings.find((one) => one.measure === key && one.channel === "all");
  const rows = STEPS.map((step) => ({ step, reading: found(`account_${step}`) }));
  if (rows.some(({ reading }) => !reading) || found("identical")?.value === 1) return null;
  const levels = rows.map(({ reading }) => reading?.value ?? LOWEST);
  const top = Math.max(...levels, LOWEST + 1);
  return (
    <section aria-label="What explains the difference" className="mb-5">
      <h2 className="font-semibold">What explains the difference</h2>
      {pair.explanation && <p className="text-xs leading-5 text-quiet">{sentence(pair.explanation)}</p>}
      <dl className="mt-1 grid grid-cols-[7.5rem_1fr_3.2rem] items-center gap-x-2">
        {rows.map(({ step, reading }, i) => (
          <div key={step} className="contents">
            <dt className="py-0.5 text-sm whitespace-nowrap">{label(step, found)}</dt>
            <dd aria-hidden="true" className="h-3.5">
              <div
                className={`h-full ${explains(levels, i) ? "bg-difference" : "hatch-changed"}`}
                style={{ width: `${width(levels[i] ?? LOWEST, top)}%` }}
              />
            </dd>
            <dd className="text-right font-medium">
              {reading?.value == null ? "null" : number(reading.value, 1)}
            </dd>
          </div>
        ))}
      </dl>
      <p className="mt-1 text-right text-xs text-quiet">residual RMS in dBFS, AES17</p>
    </section>
  );
}

const width = (level: number, top: number) =>
  Math.max(1, Math.min(100, (100 * (level - LOWEST)) / (top - LOWEST)));

/** The first bar and those that are shorter than the one before stand out; the others took nothing off. */
const explains = (levels: number[], i: number) =>
  i === 0 || i === levels.length - 1 || (levels[i - 1] ?? 0) - (levels[i] ?? 0) >= 3;

const sentence = (words: string) => `${words.charAt(0).toUpperCase()}${words.slice(1)}.`;

function label(step: (typeof STEPS)[number], found: (key: string) => Reading | undefined): string {
  const delay = found("delay")?.value;
  const gain = found("gain")?.value;
  const whole = delay == null ? 0 : Math.round(delay);
  switch (step) {
    case "raw":
      return "as rendered";
    case "delay":
      return whole === 0 ? "delay" : `${count(Math.abs(whole), "sample")} off`;
    case "polarity":
      return "polarity";
    case "gain":
      return gain == null ? "gain" : `gain ${number(gain, 2, true)} dB`;
    case "fraction":
      return delay == null || Math.abs(delay - whole) < 0.005
        ? "part of a sample"
        : `${number(delay - whole, 2, true)} sample`;
    case "filter":
      return "linear filter";
    case "remainder":
      return "left over";
  }
}
