import { queryOptions, useMutation } from "@tanstack/react-query";
import { client, POLL_MS, unwrap } from "../../api/client";

export const searchQuery = (id: number) =>
  queryOptions({
    queryKey: ["searches", id],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/searches/{search_id}", { params: { path: { search_id: id } }, signal })),
    refetchInterval: (query) => (query.state.data?.first == null ? POLL_MS : false),
  });

export const useSearch = () =>
  useMutation({
    mutationFn: (cell: number) => unwrap(client.POST("/api/searches", { body: { cell_id: cell } })),
  });
