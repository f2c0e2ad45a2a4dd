import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type NewComparison, take } from "../../api/client";

export const comparisonsQuery = queryOptions({
  queryKey: ["comparisons"],
  queryFn: ({ signal }) => take(client.GET("/api/comparisons", { signal })),
});

export const useCompare = () =>
  useMutation({ mutationFn: (body: NewComparison) => take(client.POST("/api/comparisons", { body })) });

/** Deletes a comparison, and the files in it that no other has. */
export function useDeleteComparison() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (comparison_id: number) =>
      take(client.DELETE("/api/comparisons/{comparison_id}", { params: { path: { comparison_id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: comparisonsQuery.queryKey }),
  });
}
