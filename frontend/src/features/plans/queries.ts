import { keepPreviousData, queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type PlanDocument, unwrap } from "../../api/client";

export const plansQuery = queryOptions({
  queryKey: ["plans"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/plans", { signal })),
});

export const planQuery = (id: number, revision: number | undefined) =>
  queryOptions({
    queryKey: ["plans", id, revision],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/plans/{plan_id}", {
          params: { path: { plan_id: id }, query: revision ? { revision } : {} },
          signal,
        }),
      ),
  });

export const templatesQuery = queryOptions({
  queryKey: ["plans", "templates"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/plans/templates", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});

export const templateQuery = (template: string, effect: string) =>
  queryOptions({
    queryKey: ["plans", "template", template, effect],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/plans/from-template", { params: { query: { template, effect } }, signal })),
  });

/** What a plan would be; nothing is kept. */
export const checkQuery = (document: PlanDocument) =>
  queryOptions({
    queryKey: ["plans", "check", document],
    queryFn: ({ signal }) => unwrap(client.POST("/api/plans/check", { body: document, signal })),
  });

export const faultsQuery = queryOptions({
  queryKey: ["sensitivity", "faults"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/sensitivity/faults", { signal })),
  staleTime: Number.POSITIVE_INFINITY,
});

const PLANTING_MS = 1500;

/** What a plan would miss; asked for again until all of it is found. */
export const sensitivityQuery = (document: PlanDocument, wanted: Record<string, number> | undefined) =>
  queryOptions({
    queryKey: ["sensitivity", document, wanted],
    queryFn: ({ signal }) =>
      unwrap(client.POST("/api/plans/sensitivity", { body: { document, wanted: wanted ?? null }, signal })),
    placeholderData: keepPreviousData,
    refetchInterval: ({ state }) => (state.data && state.data.under_way > 0 ? PLANTING_MS : false),
  });

export const useKeepPlan = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (document: PlanDocument) => unwrap(client.POST("/api/plans", { body: { document } })),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["plans"] }),
        queries.invalidateQueries({ queryKey: ["signals"] }),
        queries.invalidateQueries({ queryKey: ["effects"] }),
      ]),
  });
};

export const useReadPlan = () =>
  useMutation({ mutationFn: (yaml: string) => unwrap(client.POST("/api/plans/read", { body: { yaml } })) });
