import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type NewDecision, unwrap } from "../../api/client";

/** The page whose decisions are meant: those on the cells of a run, or on one cell. */
export type Decided = { run_id: number } | { cell_id: number };

export const latestActQuery = (of: Decided) =>
  queryOptions({
    queryKey: ["acts", "latest", of],
    queryFn: ({ signal }) => unwrap(client.GET("/api/acts/latest", { params: { query: of }, signal })),
  });

export const useDecide = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewDecision) => unwrap(client.POST("/api/decisions", { body })),
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};

export const useUndo = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (act: number) =>
      unwrap(client.POST("/api/acts/{act_id}/undo", { params: { path: { act_id: act } } })),
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};
