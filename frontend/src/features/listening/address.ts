import type { Schemas } from "../../api/client";

export type Spec = Schemas["SpecBody"];
export type Asked = Schemas["AskedBody"];

/** What is listened to and how, as it stands in the page's address. */
export interface Place {
  asked: Asked;
  /** The page that it is about: notes are kept with it. */
  subject: string;
}

export const USUAL: Omit<Asked, "sides"> = {
  align: "whole",
  by: "loudness_integrated",
  passage: "loudest",
  start: null,
  end: null,
  low: null,
  high: null,
  snap: true,
};

const BETWEEN = "|";

/** The address of the page on which some sides are listened to. */
export function listenAddress(sides: Spec[], subject: string, also: Partial<Asked> = {}): string {
  return `/listen?${writePlace({ asked: { ...USUAL, ...also, sides }, subject })}`;
}

export function writePlace({ asked, subject }: Place): URLSearchParams {
  const out = new URLSearchParams();
  for (const { spec, name } of asked.sides) out.append("side", `${spec}${BETWEEN}${name}`);
  if (subject) out.set("of", subject);
  if (asked.align !== USUAL.align) out.set("align", asked.align);
  if (asked.by !== USUAL.by) out.set("by", asked.by);
  if (asked.passage === null) out.set("passage", `${asked.start ?? 0}-${asked.end ?? 0}`);
  else if (asked.passage !== USUAL.passage) out.set("passage", asked.passage);
  if (asked.low != null && asked.high != null) out.set("band", `${asked.low}-${asked.high}`);
  return out;
}

const ALIGNS: readonly Asked["align"][] = ["as rendered", "whole", "fraction"];
const LEVELS: readonly Asked["by"][] = [
  "none",
  "rms",
  "loudness_integrated",
  "vu_max",
  "sample_peak",
  "true_peak",
];
const PASSAGES: readonly Asked["passage"][] = ["loudest", "quietest", "differs most", "first event", "whole"];

export function readPlace(search: URLSearchParams): Place {
  const sides = search.getAll("side").flatMap((text) => {
    const at = text.indexOf(BETWEEN);
    return at > 0 ? [{ spec: text.slice(0, at), name: text.slice(at + 1) || "side" }] : [];
  });
  const passage = range(search.get("passage"));
  const band = range(search.get("band"));
  const named = PASSAGES.find((one) => one === search.get("passage")) ?? USUAL.passage;
  return {
    subject: search.get("of") ?? "",
    asked: {
      ...USUAL,
      sides,
      align: ALIGNS.find((one) => one === search.get("align")) ?? USUAL.align,
      by: LEVELS.find((one) => one === search.get("by")) ?? USUAL.by,
      passage: passage ? null : named,
      start: passage?.[0] ?? null,
      end: passage?.[1] ?? null,
      low: band?.[0] ?? null,
      high: band?.[1] ?? null,
    },
  };
}

function range(text: string | null): [number, number] | null {
  const [low, high] = (text ?? "").split("-").map(Number);
  return low !== undefined && high !== undefined && Number.isFinite(low) && high > low ? [low, high] : null;
}
