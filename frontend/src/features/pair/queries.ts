import { queryOptions } from "@tanstack/react-query";
import { client, POLL_MS, unwrap } from "../../api/client";
import type { View } from "./view";

export const cellQuery = (id: number, beside?: number) =>
  queryOptions({
    queryKey: ["cells", id, beside],
    queryFn: ({ signal }) =>
      unwrap(
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
      unwrap(
        client.GET("/api/comparisons/{comparison_id}", { params: { path: { comparison_id: id } }, signal }),
      ),
    refetchInterval: (query) => (query.state.data?.state === "analysing" ? 700 : false),
  });

export const stripQuery = (address: string, start: number, stop: number, columns: number) =>
  queryOptions({
    queryKey: ["strip", address, start, stop, columns],
    queryFn: ({ signal }) =>
      unwrap(
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
      unwrap(
        client.GET("/api/audio/{address}/spectrum", {
          params: { path: { address }, query: { start, stop } },
          signal,
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (previous) => previous,
  });

export const mapQuery = (
  address: string,
  { start, stop }: View,
  size: { columns: number; rows: number },
  even: boolean,
  quick: boolean,
) =>
  queryOptions({
    queryKey: ["map", address, start, stop, size, even, quick],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/audio/{address}/map", {
          params: { path: { address }, query: { start, stop, ...size, even, quick } },
          signal,
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });
