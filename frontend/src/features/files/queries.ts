import { infiniteQueryOptions, queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type Schemas, unwrap } from "../../api/client";

export type FileSet = Schemas["SetBody"];
export type SetFile = Schemas["SetFileBody"];
export type SetOptions = FileSet["options"];
export type SetChange = Partial<Schemas["ChangeSetBody"]>;
export type Level = Omit<Schemas["TrimsBody"], "file_id">;
export type Trim = Schemas["TrimBody"];

const MEASURING_MS = 700;

/** Sets, newest first, a page at a time. */
export const setsQuery = infiniteQueryOptions({
  queryKey: ["sets"],
  queryFn: ({ signal, pageParam }) =>
    unwrap(client.GET("/api/sets", { signal, params: { query: { before: pageParam } } })),
  initialPageParam: null as number | null,
  getNextPageParam: (page) => (page.more ? page.sets.at(-1)?.id : null),
});

export const setQuery = (id: number) =>
  queryOptions({
    queryKey: ["sets", id],
    queryFn: ({ signal }) =>
      unwrap(client.GET("/api/sets/{set_id}", { params: { path: { set_id: id } }, signal })),
    refetchInterval: (query) =>
      query.state.data?.files.some((file) => file.state === "measuring") ? MEASURING_MS : false,
  });

export const comparisonsQuery = queryOptions({
  queryKey: ["comparisons"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/comparisons", { signal })),
});

export const setFileQuery = (set: number, file: number) =>
  queryOptions({
    queryKey: ["sets", set, file],
    queryFn: ({ signal }) =>
      unwrap(
        client.GET("/api/sets/{set_id}/files/{file_id}", {
          params: { path: { set_id: set, file_id: file } },
          signal,
        }),
      ),
    refetchInterval: (query) => (query.state.data?.state === "analysing" ? MEASURING_MS : false),
  });

export const makeSet = (name: string) => unwrap(client.POST("/api/sets", { body: { name } }));

export const addFile = (set: number, upload_id: number, folder: string) =>
  unwrap(
    client.POST("/api/sets/{set_id}/files", {
      params: { path: { set_id: set } },
      body: { files: [{ upload_id, folder }] },
    }),
  );

const UNCHANGED: Schemas["ChangeSetBody"] = {
  name: null,
  note: null,
  options: null,
  roles: null,
  columns: null,
  limits: null,
};

/** What changes a set answers with it as it is now. */
function useSetChange<Body>(id: number, send: (body: Body) => Promise<FileSet>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: send,
    onSuccess: async (found) => {
      // A look that was on its way when this was changed knows nothing of it, and would put back what was before.
      await queries.cancelQueries({ queryKey: setQuery(id).queryKey, exact: true });
      queries.setQueryData(setQuery(id).queryKey, found);
    },
  });
}

export const useChangeSet = (id: number) =>
  useSetChange(id, (change: SetChange) =>
    unwrap(
      client.POST("/api/sets/{set_id}/change", {
        params: { path: { set_id: id } },
        body: { ...UNCHANGED, ...change },
      }),
    ),
  );

export const useRemoveFiles = (id: number) =>
  useSetChange(id, (file_ids: number[]) =>
    unwrap(
      client.POST("/api/sets/{set_id}/remove", { params: { path: { set_id: id } }, body: { file_ids } }),
    ),
  );

export const useMeasureAgain = (id: number) =>
  useSetChange(id, () =>
    unwrap(client.POST("/api/sets/{set_id}/again", { params: { path: { set_id: id } } })),
  );

export const useCopySet = (id: number) =>
  useMutation({
    mutationFn: (name: string) =>
      unwrap(client.POST("/api/sets/{set_id}/copies", { params: { path: { set_id: id } }, body: { name } })),
  });

/** A plan whose references are the files of the set. */
export const usePlanOfSet = (id: number) =>
  useMutation({
    mutationFn: (body: Schemas["PlanOfSetBody"]) =>
      unwrap(client.POST("/api/sets/{set_id}/plan", { params: { path: { set_id: id } }, body })),
  });

export function useDeleteSet() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (set_id: number) =>
      unwrap(client.DELETE("/api/sets/{set_id}", { params: { path: { set_id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: setsQuery.queryKey, exact: true }),
  });
}

/** Two files of a set compared with each other, in the way of the set. */
export const useComparePair = ({ align, match_gain, match_polarity, max_delay }: SetOptions) =>
  useMutation({
    mutationFn: ([reference_id, render_id]: [number, number]) =>
      unwrap(
        client.POST("/api/comparisons", {
          body: { reference_id, render_id, align, match_gain, match_polarity, max_delay },
        }),
      ),
  });

/** Deletes a comparison, and the files in it that nothing else has. */
export function useDeleteComparison() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (comparison_id: number) =>
      unwrap(client.DELETE("/api/comparisons/{comparison_id}", { params: { path: { comparison_id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: comparisonsQuery.queryKey }),
  });
}

export const trimOf = (set: number, file_id: number, level: Level) =>
  unwrap(
    client.POST("/api/sets/{set_id}/trims", {
      params: { path: { set_id: set } },
      body: { ...level, file_id },
    }),
  );
