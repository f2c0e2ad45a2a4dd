import type { Cell, Person } from "../api/client";

const UNDER_WAY: Partial<Record<Cell["state"], string>> = {
  waiting: "Not rendered yet",
  rendering: "Rendering",
  analysing: "Measuring",
};

/** A verdict as it is shown; of a cell that is under way, what is done with it. */
export const verdictText = (verdict: Cell["verdict"], state: Cell["state"] = "done"): string =>
  UNDER_WAY[state] ?? (verdict === "Waiting" ? "No reference yet" : verdict);

/** Why a verdict is what it is, where that says more than its name. */
export const reasonText = ({ verdict, state, why }: Pick<Cell, "verdict" | "state" | "why">): string =>
  verdict === "Waiting" && !UNDER_WAY[state] ? "" : why;

/** What a role is called, and what it lets somebody do. */
export const ROLE_WORDS: Record<Person["role"], { title: string; does: string }> = {
  look: { title: "Viewer", does: "Reads, listens and exports" },
  work: { title: "Engineer", does: "Plans, runs and decides" },
  keep: { title: "Administrator", does: "References, people and renderers as well" },
};
