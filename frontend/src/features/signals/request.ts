import type { SignalKind, SignalParameter, SignalRequest } from "../../api/client";
import { number } from "../../ui/numbers";

type Value = SignalRequest[string];

/** What holds for a parameter: what is asked for, or the usual. */
export const asked = (request: SignalRequest, parameter: SignalParameter): Value =>
  parameter.key in request ? (request[parameter.key] ?? null) : parameter.default;

/** A request with one value changed; what is usual is left out, so that equal requests look equal. */
export function withValue(request: SignalRequest, parameter: SignalParameter, value: Value): SignalRequest {
  const rest = Object.entries(request).filter(([key]) => key !== parameter.key);
  return Object.fromEntries(value === parameter.default ? rest : [...rest, [parameter.key, value]]);
}

export const same = (one: SignalRequest, other: SignalRequest): boolean =>
  JSON.stringify(Object.entries(one).sort()) === JSON.stringify(Object.entries(other).sort());

/** A signal in a few words, for a list. */
export function described(request: SignalRequest, kind: SignalKind | undefined): string {
  if (!kind) return `Own file: ${String(request.name ?? "").split(", SHA-256")[0]}`;
  const own = kind.parameters.filter((one) => one.key in request && SHOWN.has(one.key));
  const words = own.map((one) => {
    const value = request[one.key];
    return typeof value === "number" ? `${number(value, decimals(value))} ${one.unit}`.trim() : String(value);
  });
  return [kind.title, ...words].join(", ");
}

const SHOWN = new Set(["level", "frequency", "color", "piece", "density", "tempo", "placement", "order"]);
const decimals = (value: number) => (Number.isInteger(value) ? 0 : 1);
