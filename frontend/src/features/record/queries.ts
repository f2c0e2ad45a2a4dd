import { infiniteQueryOptions } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";

export interface Asked {
  who: string;
  what: string;
  text: string;
  first: string;
  last: string;
}

/** The parts that were filled in, as the API asks for them. */
export const given = (asked: Asked): Partial<Asked> =>
  Object.fromEntries(Object.entries(asked).filter(([, value]) => value !== ""));

export const recordQuery = (asked: Asked) =>
  infiniteQueryOptions({
    queryKey: ["record", asked],
    queryFn: ({ signal, pageParam }) =>
      unwrap(
        client.GET("/api/record", {
          params: { query: { ...given(asked), ...(pageParam ? { before: pageParam } : {}) } },
          signal,
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (page) => (page.older ? page.events.at(-1)?.id : undefined),
  });
