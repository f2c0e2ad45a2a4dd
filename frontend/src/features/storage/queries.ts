import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type Schemas, unwrap } from "../../api/client";

export type Rule = Schemas["RuleBody"];
export type Share = { name: string; bytes: number; pieces: number | null };

export const storageQuery = queryOptions({
  queryKey: ["storage"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/storage", { signal })),
});

/** What a rule would drop now. */
export const dryRunQuery = (keepRuns: number) =>
  queryOptions({
    queryKey: ["storage", "dry run", keepRuns],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/storage/dry-run", { params: { query: { keep_runs: keepRuns } }, signal })),
  });

function useStorageChange<Body>(change: (body: Body) => Promise<unknown>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSuccess: () => queries.invalidateQueries({ queryKey: storageQuery.queryKey }),
  });
}

export const useSetRule = () =>
  useStorageChange((body: Rule) => unwrap(client.POST("/api/storage/rule", { body })));

export const useDrop = () => useStorageChange(() => unwrap(client.POST("/api/storage/drop")));
