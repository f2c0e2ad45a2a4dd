import type { PlanCase, PlanCondition, PlanDocument, PlanLimit } from "../../api/client";

export const RATES = [44_100, 48_000, 88_200, 96_000, 176_400, 192_000];

/** Numbers and words as a person lists them: "2, 4, 8". */
export function listed(text: string): (number | string)[] {
  return text
    .split(/[,;]\s*|\s+/)
    .map((one) => one.trim())
    .filter((one) => one !== "")
    .map((one) => {
      const value = Number(one.replace("−", "-"));
      return Number.isFinite(value) ? value : one.replaceAll("−", "-");
    });
}

/** A signal through a setting, and all else as usual. */
export const plainCase = (signal: string, setting: string): PlanCase => ({
  signal,
  setting,
  sweep: null,
  takes: 1,
  against: "reference",
  measures: null,
  expected: null,
  variation: null,
  limits: {},
});

export const newCase = (document: PlanDocument, setting: string, signal: string): PlanCase =>
  document.cases.at(-1) ?? plainCase(signal, setting);

export const newCondition = (host: string, version: string, modes: readonly string[]): PlanCondition => ({
  host,
  version,
  modes: modes.includes("offline") ? ["offline"] : ["real time"],
  rates: [48_000],
  blocks: [],
  channels: 1,
  word_length: "FLOAT",
  hosting: [],
  limits: {},
});

export const NO_LIMIT: PlanLimit = { at_least: null, at_most: null, because: "" };

/** A list with one of its members replaced, or left out. */
export function changed<T>(list: T[], index: number, value: T | undefined): T[] {
  return value === undefined
    ? list.filter((_, i) => i !== index)
    : list.map((one, i) => (i === index ? value : one));
}

export function bytes(count: number): string {
  if (count < 1e6) return `${Math.ceil(count / 1e3)} kB`;
  return count < 1e9 ? `${Math.round(count / 1e6)} MB` : `${(count / 1e9).toFixed(1)} GB`;
}
