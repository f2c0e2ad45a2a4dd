import { queryOptions, useMutation } from "@tanstack/react-query";
import { client, type NewComparison, take } from "../../api/client";

export const comparisonsQuery = queryOptions({
  queryKey: ["comparisons"],
  queryFn: ({ signal }) => take(client.GET("/api/comparisons", { signal })),
});

export const useCompare = () =>
  useMutation({ mutationFn: (body: NewComparison) => take(client.POST("/api/comparisons", { body })) });
