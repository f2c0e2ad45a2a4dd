import { queryOptions } from "@tanstack/react-query";
import { client, unwrap } from "./client";

export const measuresQuery = queryOptions({
  queryKey: ["measures"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/measures", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});
