import type { Effect, Setting } from "../../api/client";
import { number } from "../../ui/numbers";

export type Value = Setting["values"][string];
type Course = Extract<Value, { values: unknown }>;

const isCourse = (value: unknown): value is Course =>
  typeof value === "object" && value !== null && "at" in value;

/** A value as a person writes it: a number, a text, or a course in time such as "0:0.2, 1.5:0.8" or "ramp 0:0, 1:1". */
export function read(text: string): Value {
  const written = text.trim();
  const ramp = /^ramp\s+/.test(written);
  const parts = written.replace(/^ramp\s+/, "").split(/\s*,\s*/);
  const points = parts.map((part) => /^(\d+(?:\.\d+)?)\s*:\s*([^:]+)$/.exec(part));
  if (parts.length > 1 && points.every((point) => point !== null))
    return {
      at: points.map((point) => Number(point?.[1])),
      values: points.map((point) => plain(point?.[2] ?? "")),
      ramp,
    };
  return plain(written);
}

function plain(text: string): number | string {
  const value = Number(text.replace("−", "-"));
  return text.trim() !== "" && Number.isFinite(value) ? value : text.trim();
}

export function valueText(value: unknown, unit: unknown): string {
  if (isCourse(value)) {
    const points = value.values.map((one, i) => `${valueText(one, unit)} at ${valueText(value.at[i], "s")}`);
    return `${points.join(", ")}${value.ramp ? ", on lines between" : ""}`;
  }
  if (typeof value !== "number") return String(value);
  const shown = Number(value.toPrecision(6)); // a plug-in's 32 bits make 0.100000001 of 0.1
  const places = Number.isInteger(shown) ? 0 : (String(shown).split(".")[1]?.length ?? 1);
  return `${number(shown, Math.min(places, 4))} ${unit ?? ""}`.trim();
}

/** What a setting sets, in the order of the effect's parameters. */
export function valuesText(effect: Effect, setting: Setting): string {
  const known = effect.parameters.map((one) => String(one.name));
  const words = Object.entries(setting.values)
    .sort(([one], [other]) => known.indexOf(one) - known.indexOf(other))
    .map(([name, value]) => `${name} ${valueText(value, effect.parameters[known.indexOf(name)]?.unit)}`);
  const preset = setting.preset ? [`the preset ${setting.preset}`] : [];
  return [...preset, ...words].join(", ") || "as it comes";
}

/** What is expected of a setting, in words; empty for nothing. */
export function expectedText({ expected }: Setting): string {
  if (!expected) return "";
  const { law, within, latency } = expected;
  const words = [];
  if (law) {
    const plus = law.makeup ? `${number(law.makeup, 1)} dB of make-up` : "";
    const curve =
      law.ratio === 1
        ? plus || "unity"
        : `${law.ratio} : 1 over ${number(law.threshold, 1)} dBFS${law.knee ? `, knee ${law.knee} dB` : ""}${plus && `, ${plus}`}`;
    words.push(`${curve}, within ${within} dB`);
  }
  if (latency != null) words.push(latency === 1 ? "1 sample late" : `${latency} samples late`);
  return `Expected: ${words.join("; ")}`;
}

export function between(parameter: Effect["parameters"][number]): string {
  const { choices, least, greatest, unit } = parameter;
  if (Array.isArray(choices) && choices.length > 0) return choices.map(String).join(", ");
  return `${valueText(least, "")} to ${valueText(greatest, unit)}`;
}
