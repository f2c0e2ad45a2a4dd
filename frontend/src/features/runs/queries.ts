import { infiniteQueryOptions, keepPreviousData, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type NewRun, POLL_MS, unwrap } from "../../api/client";

/** Runs of an effect, or of all for an empty name, with words in them; a page at a time, from the newest on. */
export const runsQuery = (effect: string, text: string, archived: boolean) =>
  infiniteQueryOptions({
    queryKey: ["runs", effect, text, archived],
    queryFn: ({ signal, pageParam }) =>
      unwrap(
        client.GET("/api/runs", {
          signal,
          params: { query: { effect: effect || null, text, archived, before: pageParam } },
        }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => (page.older ? page.runs.at(-1)?.id : null),
    placeholderData: keepPreviousData, // the page stays while the runs of another effect are on their way
    refetchInterval: POLL_MS,
  });

export const useStartRun = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewRun) => unwrap(client.POST("/api/runs", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["runs"] }),
  });
};
