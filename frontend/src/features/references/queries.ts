import { queryOptions } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";

export const referencesQuery = queryOptions({
  queryKey: ["references"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/references", { signal })),
});

export const historyQuery = (id: number) =>
  queryOptions({
    queryKey: ["references", id],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/references/{reference_id}/history", {
          params: { path: { reference_id: id } },
          signal,
        }),
      ),
  });
