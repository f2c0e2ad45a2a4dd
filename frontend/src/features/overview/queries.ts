import { queryOptions } from "@tanstack/react-query";
import { client, POLL_MS, unwrap } from "../../api/client";

export const overviewQuery = queryOptions({
  queryKey: ["overview"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/overview", { signal })),
  refetchInterval: POLL_MS,
});
