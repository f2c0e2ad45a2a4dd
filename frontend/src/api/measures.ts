import { queryOptions } from "@tanstack/react-query";
import { client, take } from "./client";

export const measuresQuery = queryOptions({
  queryKey: ["measures"],
  queryFn: ({ signal }) => take(client.GET("/api/measures", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});
