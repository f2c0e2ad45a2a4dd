import { useMutation, useQueryClient } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";

export type Kind = "effect" | "build" | "setting" | "plan" | "host" | "run";

export interface Change {
  name?: string;
  version?: string;
  archived?: boolean;
  /** Of a build. */
  note?: string;
  /** Of a build, in the order of its effect's. */
  move?: "earlier" | "later";
}

async function change(
  kind: Kind,
  id: number,
  { name, version, archived, note, move }: Change,
): Promise<unknown> {
  const body = { name: name ?? null, archived: archived ?? null };
  switch (kind) {
    case "effect":
      return unwrap(
        client.POST("/api/effects/{effect_id}/change", { params: { path: { effect_id: id } }, body }),
      );
    case "setting":
      return unwrap(
        client.POST("/api/effects/settings/{setting_id}/change", {
          params: { path: { setting_id: id } },
          body,
        }),
      );
    case "plan":
      return unwrap(client.POST("/api/plans/{plan_id}/change", { params: { path: { plan_id: id } }, body }));
    case "host":
      return unwrap(
        client.POST("/api/hosts/{host_id}/change", {
          params: { path: { host_id: id } },
          body: { ...body, version: version ?? null },
        }),
      );
    case "build":
      return unwrap(
        client.POST("/api/builds/{build_id}/change", {
          params: { path: { build_id: id } },
          body: { version: name ?? null, note: note ?? null, archived: archived ?? null, move: move ?? null },
        }),
      );
    case "run":
      return unwrap(
        client.POST("/api/runs/{run_id}/change", {
          params: { path: { run_id: id } },
          body: { change: archived ? "archive" : "bring back" },
        }),
      );
  }
}

const remove = (kind: "build" | "run", id: number): Promise<unknown> =>
  kind === "build"
    ? unwrap(client.DELETE("/api/builds/{build_id}", { params: { path: { build_id: id } } }))
    : unwrap(client.DELETE("/api/runs/{run_id}", { params: { path: { run_id: id } } }));

/** Names stand everywhere: whatever is shown is looked at anew. */
function useEverythingAnew() {
  const queries = useQueryClient();
  return () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" });
}

export function useChange(kind: Kind, id: number) {
  const anew = useEverythingAnew();
  return useMutation({ mutationFn: (what: Change) => change(kind, id, what), onSuccess: anew });
}

export function useRemove(kind: "build" | "run", id: number) {
  const anew = useEverythingAnew();
  return useMutation({ mutationFn: () => remove(kind, id), onSuccess: anew });
}
