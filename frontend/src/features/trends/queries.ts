import { queryOptions } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";

/** Of a plan and a measure; where one is not named, of one that has something to draw. */
export const trendQuery = (
  plan: number | undefined,
  measure: string | undefined,
  one: { signal: string; setting: string },
) =>
  queryOptions({
    queryKey: ["trends", plan ?? "", measure ?? "", one],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/trends", {
          params: { query: { plan_id: plan ?? null, measure: measure ?? null, ...one } },
          signal,
        }),
      ),
    placeholderData: (previous) => previous,
  });

/** Every measure of a plan by build. */
export const byBuildQuery = (plan: number) =>
  queryOptions({
    queryKey: ["trends", plan, "every measure"],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/trends/{plan_id}/measures", { params: { path: { plan_id: plan } }, signal })),
  });
