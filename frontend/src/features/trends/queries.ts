import { queryOptions } from "@tanstack/react-query";
import { client, take } from "../../api/client";

export const trendQuery = (plan: number, measure: string) =>
  queryOptions({
    queryKey: ["trends", plan, measure],
    queryFn: ({ signal }) =>
      take(client.GET("/api/trends", { params: { query: { plan_id: plan, measure } }, signal })),
    placeholderData: (previous) => previous,
  });
