import type { Pair } from "../../api/client";
import type { Spec } from "./address";

/** What of a pair can be listened to: the audio as it is kept, so that delays are taken off where it is heard. */
export function sidesOf(pair: Pair): Spec[] {
  const named = [
    { side: pair.reference, name: "Reference" },
    { side: pair.render, name: "Render" },
    { side: pair.signal, name: "Input signal" },
  ];
  return named.flatMap(({ side, name }) =>
    side && side.dropped_at === null ? [{ spec: side.sha256 ?? side.address, name }] : [],
  );
}
