import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type SignalRequest, unwrap } from "../../api/client";

export const signalsQuery = queryOptions({
  queryKey: ["signals"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/signals", { signal })),
});

export const signalKindsQuery = queryOptions({
  queryKey: ["signals", "kinds"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/signals/kinds", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});

export const previewQuery = (request: SignalRequest, rate: number) =>
  queryOptions({
    queryKey: ["signals", "preview", request, rate],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/signals/preview", {
          params: { query: { request: JSON.stringify(request), rate } },
          signal,
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (previous) => previous,
  });

export const useKeepSignal = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { name: string; request: SignalRequest }) =>
      unwrap(client.POST("/api/signals", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["signals"], exact: true }),
  });
};
