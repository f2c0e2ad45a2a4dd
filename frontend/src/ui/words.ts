import type { Cell, Person } from "../api/client";

/** A verdict as it is shown. */
export const verdictText = (verdict: Cell["verdict"]): string =>
  verdict === "Waiting" ? "No reference yet" : verdict;

/** What a role is called, and what it lets somebody do. */
export const ROLE_WORDS: Record<Person["role"], { title: string; does: string }> = {
  look: { title: "Viewer", does: "Reads, listens and exports" },
  work: { title: "Engineer", does: "Plans, runs and decides" },
  keep: { title: "Administrator", does: "References, people and renderers as well" },
};
