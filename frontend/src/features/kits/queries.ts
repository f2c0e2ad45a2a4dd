import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, POLL_MS, unwrap } from "../../api/client";

export const kitQuery = (run: number) =>
  queryOptions({
    queryKey: ["kit", run],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/runs/{run_id}/kit", { params: { path: { run_id: run } }, signal })),
    refetchInterval: POLL_MS,
  });

export const useAssign = (run: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ file, cell }: { file: number; cell: number }) =>
      unwrap(
        client.POST("/api/kit-files/{file_id}/assign", {
          params: { path: { file_id: file } },
          body: { cell_id: cell, take: null },
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ["kit", run] }),
  });
};

export const useDiscard = (run: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (file: number) =>
      unwrap(
        client.DELETE("/api/kit-files/{file_id}", {
          params: { path: { file_id: file } },
        }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ["kit", run] }),
  });
};
