import { queryOptions, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { BASE } from "../../api/base";
import { client, POLL_MS, type RunChange, type Sheet, unwrap } from "../../api/client";
import { merged } from "./merged";

const LEAST_WAIT_MS = 250;
const WAIT_A_CELL_MS = 0.5;

/** A run's sheet, kept up to date by server-sent events, or by polling while these do not come through. */
export function useSheet(runId: number, measure: string, against: string) {
  const queries = useQueryClient();
  const [listening, setListening] = useState(false);
  const queryKey = ["sheet", runId, measure, against];
  const sheet = useQuery({
    queryKey,
    queryFn: async ({ signal }) => {
      const held = queries.getQueryData<Sheet>(queryKey);
      const query = { measure, against, since: held?.version ?? "" };
      const sent = await unwrap(
        client.GET("/api/runs/{run_id}", { params: { path: { run_id: runId }, query }, signal }),
      );
      return merged(held, sent);
    },
    placeholderData: (previous, query) =>
      query?.queryKey[1] === runId && query.queryKey[3] === against ? previous : undefined,
    refetchInterval: (query) => (listening && !query.state.error ? false : POLL_MS),
  });
  // Cells change in bursts; one look at the sheet serves them all, and a large sheet is looked at less often.
  const cells = sheet.data?.cells.length ?? 0;
  const wait = useRef(LEAST_WAIT_MS);
  wait.current = Math.max(LEAST_WAIT_MS, cells * WAIT_A_CELL_MS);
  useEffect(() => {
    const source = new EventSource(`${BASE}/api/runs/${runId}/events`);
    let timer: number | undefined;
    const refresh = () => {
      timer ??= window.setTimeout(() => {
        timer = undefined;
        void queries.invalidateQueries({ queryKey: ["sheet", runId] });
      }, wait.current);
    };
    source.addEventListener("open", () => {
      setListening(true);
      refresh();
    });
    source.addEventListener("change", refresh);
    source.addEventListener("error", () => setListening(false));
    return () => {
      source.close();
      window.clearTimeout(timer);
    };
  }, [runId, queries]);
  return sheet;
}

/** Small pictures of the differences of a run with few cells; asked for again when the sheet has changed. */
export function usePictures(run: number, version: string, wanted: boolean): ReadonlyMap<number, number[]> {
  const pictures = useQuery({
    queryKey: ["pictures", run, version],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/runs/{run_id}/pictures", { params: { path: { run_id: run } }, signal })),
    enabled: wanted,
    placeholderData: (previous, query) => (query?.queryKey[1] === run ? previous : undefined),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const levels = wanted ? pictures.data?.levels : undefined;
  return useMemo(
    () => new Map(Object.entries(levels ?? {}).map(([cell, heights]) => [Number(cell), heights])),
    [levels],
  );
}

/** What the plan of a run would have noticed, where that is known; empty where it is not. */
export const runSensitivityQuery = (runId: number) =>
  queryOptions({
    queryKey: ["sensitivity", "run", runId],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/runs/{run_id}/sensitivity", { params: { path: { run_id: runId } }, signal })),
  });

export const useChangeRun = (run: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (change: RunChange) =>
      unwrap(
        client.POST("/api/runs/{run_id}/change", { params: { path: { run_id: run } }, body: { change } }),
      ),
    onSettled: () => queries.invalidateQueries({ queryKey: ["sheet", run] }),
  });
};

/** Let the pairs that nobody has compared yet be compared. */
export const useCompareAcross = (run: number) =>
  useMutation({
    mutationFn: (against: string) =>
      unwrap(
        client.POST("/api/runs/{run_id}/across", { params: { path: { run_id: run } }, body: { against } }),
      ),
  });

export const useRenderAgain = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (cells: number[]) => unwrap(client.POST("/api/renders", { body: { cell_ids: cells } })),
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};
