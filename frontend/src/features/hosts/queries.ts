import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type NewHost, POLL_MS, take } from "../../api/client";

export const hostsQuery = queryOptions({
  queryKey: ["hosts"],
  queryFn: ({ signal }) => take(client.GET("/api/hosts", { signal })),
  refetchInterval: POLL_MS,
});

export const useAddHost = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewHost) => take(client.POST("/api/hosts", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
};
