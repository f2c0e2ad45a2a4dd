import { queryOptions } from "@tanstack/react-query";
import { client, POLL_MS, take } from "../../api/client";

export const cellQuery = (id: number, beside?: number) =>
  queryOptions({
    queryKey: ["cells", id, beside],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/cells/{cell_id}", {
          params: { path: { cell_id: id }, query: beside ? { beside } : {} },
          signal,
        }),
      ),
    refetchInterval: (query) => (query.state.data?.state === "done" ? false : POLL_MS),
  });

export const comparisonQuery = (id: number) =>
  queryOptions({
    queryKey: ["comparisons", id],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/comparisons/{comparison_id}", { params: { path: { comparison_id: id } }, signal }),
      ),
    refetchInterval: (query) => (query.state.data?.state === "analysing" ? 700 : false),
  });

export const stripQuery = (address: string, start: number, stop: number, columns: number) =>
  queryOptions({
    queryKey: ["strip", address, start, stop, columns],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/audio/{address}/waveform", {
          params: { path: { address }, query: { start, stop, columns } },
          signal,
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (previous) => previous,
  });

export const spectrumQuery = (address: string, start: number, stop: number) =>
  queryOptions({
    queryKey: ["spectrum", address, start, stop],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/audio/{address}/spectrum", {
          params: { path: { address }, query: { start, stop } },
          signal,
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (previous) => previous,
  });
