import { queryOptions } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";

/** What needles show along the audio at an address; it never changes. */
export const needlesQuery = (address: string) =>
  queryOptions({
    queryKey: ["needles", address],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/audio/{address}/needles", { params: { path: { address } }, signal })),
    staleTime: Number.POSITIVE_INFINITY,
  });
