import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type NewHost, POLL_MS, unwrap } from "../../api/client";

export const hostsQuery = queryOptions({
  queryKey: ["hosts"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/hosts", { signal })),
  refetchInterval: POLL_MS,
});

/** Lets a machine render what it offers. */
export const useApproveMachine = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) =>
      unwrap(client.POST("/api/machines/{name}/approval", { params: { path: { name } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
};

/** Has a machine look again at what it has. */
export const useLookAgain = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) =>
      unwrap(client.POST("/api/machines/{name}/look-again", { params: { path: { name } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
};

export const useAddHost = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewHost) => unwrap(client.POST("/api/hosts", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
};
