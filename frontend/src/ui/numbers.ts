import type { Limit, Measure, Reading } from "../api/client";

const THIN = "\u2009";

/** A number as it is set here: real minus, thin spaces between thousands. */
export function number(value: number, decimals: number, signed = false): string {
  const [whole = "", part] = Math.abs(value).toFixed(decimals).split(".");
  const grouped = whole.replace(/\B(?=(\d{3})+$)/g, THIN);
  const zero = Number(value.toFixed(decimals)) === 0;
  const sign = zero ? "" : value < 0 ? "−" : signed ? "+" : "";
  return sign + grouped + (part === undefined ? "" : `.${part}`);
}

/** The value of a reading without its unit, or a dash where there is none. */
export function valueText({ value }: Pick<Reading, "value">, measure: Measure): string {
  if (value === null) return "—";
  if (measure.drawing === "flag") return value === 1 ? "yes" : "no";
  return number(value, measure.decimals, measure.signed || measure.drawing === "sign");
}

/** A limit as it stands beside its value. */
export function limitText(limit: Limit | null | undefined, measure: Measure): string {
  if (!limit) return "";
  const { at_least: low, at_most: high } = limit;
  const digits = (value: number) =>
    number(value, Number.isInteger(value) ? 0 : Math.min(3, measure.decimals));
  if (measure.drawing === "sign") return "+1";
  if (measure.drawing === "flag") return high === 0 ? "no" : "yes";
  if (low != null && high != null && low === high) return `= ${digits(low)}`;
  if (low != null && high != null && low === -high) return `±${digits(high)}`;
  if (low != null && high != null) return `${digits(low)} to ${digits(high)}`;
  if (high != null) return `≤ ${digits(high)}`;
  if (low != null) return `≥ ${digits(low)}`;
  return "";
}

export const kilohertz = (rate: number): string => String(rate / 1000);

/** Seconds as a person reads them. */
export function duration(seconds: number): string {
  if (seconds < 60) return `${Math.ceil(seconds)} s`;
  return `${Math.ceil(seconds / 60)} min`;
}

export const dateTime = (text: string): string =>
  new Date(text).toLocaleString("en-GB", {
    day: "numeric",
    month: "short",
    year: text.startsWith(String(new Date().getFullYear())) ? undefined : "numeric",
    hour: "2-digit",
    minute: "2-digit",
  });

export const day = (text: string): string =>
  new Date(text).toLocaleDateString("en-GB", { day: "numeric", month: "short", year: "numeric" });

export const count = (n: number, one: string, many = `${one}s`): string =>
  `${number(n, 0)} ${n === 1 ? one : many}`;

/** Bytes as a person reads them, in steps of 1000. */
export function megabytes(bytes: number): string {
  if (bytes >= 1e9) return `${number(bytes / 1e9, 2)} GB`;
  return `${number(bytes / 1e6, bytes >= 1e7 ? 0 : 1)} MB`;
}

/** A sentence with its full stop, which the name of a person may bring along. */
export const ended = (sentence: string): string => (sentence.endsWith(".") ? sentence : `${sentence}.`);

export const sentenceCase = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);
