import { queryOptions, useMutation } from "@tanstack/react-query";
import { client, POLL_MS, take } from "../../api/client";

export const searchQuery = (id: number) =>
  queryOptions({
    queryKey: ["searches", id],
    queryFn: ({ signal }) =>
      take(client.GET("/api/searches/{search_id}", { params: { path: { search_id: id } }, signal })),
    refetchInterval: (query) => (query.state.data?.first == null ? POLL_MS : false),
  });

export const useSearch = () =>
  useMutation({
    mutationFn: (cell: number) => take(client.POST("/api/searches", { body: { cell_id: cell } })),
  });
