import {
  infiniteQueryOptions,
  keepPreviousData,
  queryOptions,
  useMutation,
  useQuery,
  useQueryClient,
} from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { BASE } from "./base";
import {
  client,
  type NewComparison,
  type NewDecision,
  type NewHost,
  type NewRun,
  type PlanDocument,
  Problem,
  problemFrom,
  type RunChange,
  type SignalRequest,
  take,
} from "./client";

const POLL_MS = 2000;

/** Runs of an effect, or of all for an empty name; a page at a time, from the newest on. */
export const runsQuery = (effect: string) =>
  infiniteQueryOptions({
    queryKey: ["runs", effect],
    queryFn: ({ signal, pageParam }) =>
      take(
        client.GET("/api/runs", { signal, params: { query: { effect: effect || null, before: pageParam } } }),
      ),
    initialPageParam: null as number | null,
    getNextPageParam: (page) => (page.older ? page.runs.at(-1)?.id : null),
    placeholderData: keepPreviousData, // the page stays while the runs of another effect are on their way
    refetchInterval: POLL_MS,
  });

export const plansQuery = queryOptions({
  queryKey: ["plans"],
  queryFn: ({ signal }) => take(client.GET("/api/plans", { signal })),
});

export const planQuery = (id: number, revision: number | undefined) =>
  queryOptions({
    queryKey: ["plans", id, revision],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/plans/{plan_id}", {
          params: { path: { plan_id: id }, query: revision ? { revision } : {} },
          signal,
        }),
      ),
  });

export const templatesQuery = queryOptions({
  queryKey: ["plans", "templates"],
  queryFn: ({ signal }) => take(client.GET("/api/plans/templates", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});

export const templateQuery = (template: string, effect: string) =>
  queryOptions({
    queryKey: ["plans", "template", template, effect],
    queryFn: ({ signal }) =>
      take(client.GET("/api/plans/from-template", { params: { query: { template, effect } }, signal })),
  });

/** What a plan would be; nothing is kept. */
export const checkQuery = (document: PlanDocument) =>
  queryOptions({
    queryKey: ["plans", "check", document],
    queryFn: ({ signal }) => take(client.POST("/api/plans/check", { body: document, signal })),
  });

export const trendQuery = (plan: number, measure: string) =>
  queryOptions({
    queryKey: ["trends", plan, measure],
    queryFn: ({ signal }) =>
      take(client.GET("/api/trends", { params: { query: { plan_id: plan, measure } }, signal })),
    placeholderData: (previous) => previous,
  });

export const searchQuery = (id: number) =>
  queryOptions({
    queryKey: ["searches", id],
    queryFn: ({ signal }) =>
      take(client.GET("/api/searches/{search_id}", { params: { path: { search_id: id } }, signal })),
    refetchInterval: (query) => (query.state.data?.first == null ? POLL_MS : false),
  });

export const measuresQuery = queryOptions({
  queryKey: ["measures"],
  queryFn: ({ signal }) => take(client.GET("/api/measures", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});

export const referencesQuery = queryOptions({
  queryKey: ["references"],
  queryFn: ({ signal }) => take(client.GET("/api/references", { signal })),
});

export const historyQuery = (id: number) =>
  queryOptions({
    queryKey: ["references", id],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/references/{reference_id}/history", {
          params: { path: { reference_id: id } },
          signal,
        }),
      ),
  });

export const comparisonsQuery = queryOptions({
  queryKey: ["comparisons"],
  queryFn: ({ signal }) => take(client.GET("/api/comparisons", { signal })),
});

export const kitQuery = (run: number) =>
  queryOptions({
    queryKey: ["kit", run],
    queryFn: ({ signal }) =>
      take(client.GET("/api/runs/{run_id}/kit", { params: { path: { run_id: run } }, signal })),
    refetchInterval: POLL_MS,
  });

export const hostsQuery = queryOptions({
  queryKey: ["hosts"],
  queryFn: ({ signal }) => take(client.GET("/api/hosts", { signal })),
  refetchInterval: POLL_MS,
});

export const effectsQuery = queryOptions({
  queryKey: ["effects"],
  queryFn: ({ signal }) => take(client.GET("/api/effects", { signal })),
});

export const signalsQuery = queryOptions({
  queryKey: ["signals"],
  queryFn: ({ signal }) => take(client.GET("/api/signals", { signal })),
});

export const signalKindsQuery = queryOptions({
  queryKey: ["signals", "kinds"],
  queryFn: ({ signal }) => take(client.GET("/api/signals/kinds", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});

export const previewQuery = (request: SignalRequest, rate: number) =>
  queryOptions({
    queryKey: ["signals", "preview", request, rate],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/signals/preview", {
          params: { query: { request: JSON.stringify(request), rate } },
          signal,
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (previous) => previous,
  });

export const latestActQuery = queryOptions({
  queryKey: ["acts", "latest"],
  queryFn: ({ signal }) => take(client.GET("/api/acts/latest", { signal })),
});

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

const LEAST_WAIT_MS = 250;
const WAIT_A_CELL_MS = 0.5;

/** A run's sheet, kept up to date by server-sent events, or by polling while these do not come through. */
export function useSheet(runId: number, measure: string, against: string) {
  const queries = useQueryClient();
  const [listening, setListening] = useState(false);
  const sheet = useQuery({
    queryKey: ["sheet", runId, measure, against],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/runs/{run_id}", {
          params: { path: { run_id: runId }, query: { measure, against } },
          signal,
        }),
      ),
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

export const useKeepPlan = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (document: PlanDocument) => take(client.POST("/api/plans", { body: { document } })),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["plans"] }),
        queries.invalidateQueries({ queryKey: ["signals"] }),
        queries.invalidateQueries({ queryKey: ["effects"] }),
      ]),
  });
};

export const useSearch = () =>
  useMutation({
    mutationFn: (cell: number) => take(client.POST("/api/searches", { body: { cell_id: cell } })),
  });

export const useReadPlan = () =>
  useMutation({ mutationFn: (yaml: string) => take(client.POST("/api/plans/read", { body: { yaml } })) });

export const useStartRun = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewRun) => take(client.POST("/api/runs", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["runs"] }),
  });
};

export const useDecide = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewDecision) => take(client.POST("/api/decisions", { body })),
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};

export const useChangeRun = (run: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (change: RunChange) =>
      take(client.POST("/api/runs/{run_id}/change", { params: { path: { run_id: run } }, body: { change } })),
    onSettled: () => queries.invalidateQueries({ queryKey: ["sheet", run] }),
  });
};

/** Let the pairs that nobody has compared yet be compared. */
export const useCompareAcross = (run: number) =>
  useMutation({
    mutationFn: (against: string) =>
      take(
        client.POST("/api/runs/{run_id}/across", { params: { path: { run_id: run } }, body: { against } }),
      ),
  });

export const useRenderAgain = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (cells: number[]) => take(client.POST("/api/renders", { body: { cell_ids: cells } })),
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};

export const useUndo = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (act: number) =>
      take(client.POST("/api/acts/{act_id}/undo", { params: { path: { act_id: act } } })),
    onSettled: () => queries.invalidateQueries({ predicate: (query) => query.queryKey[0] !== "strip" }),
  });
};

export const useAssign = (run: number) => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ file, cell }: { file: number; cell: number }) =>
      take(
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
    mutationFn: async (file: number) => {
      const { error, response } = await client.DELETE("/api/kit-files/{file_id}", {
        params: { path: { file_id: file } },
      });
      if (!response.ok) throw problemFrom(response.status, error);
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["kit", run] }),
  });
};

export const useAddHost = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: NewHost) => take(client.POST("/api/hosts", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["hosts"] }),
  });
};

export const useAddEffect = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) => take(client.POST("/api/effects", { body: { name } })),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["hosts"] }),
        queries.invalidateQueries({ queryKey: ["effects"] }),
      ]),
  });
};

export const useKeepSignal = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: { name: string; request: SignalRequest }) =>
      take(client.POST("/api/signals", { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["signals"], exact: true }),
  });
};

export const useCompare = () =>
  useMutation({ mutationFn: (body: NewComparison) => take(client.POST("/api/comparisons", { body })) });

/** Ask again when the server or its database was away; not when it said no. */
export const shouldRetry = (count: number, error: Error): boolean =>
  count < 5 && error instanceof Problem && (error.status === 0 || error.status >= 502);
