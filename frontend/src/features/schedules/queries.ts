import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, type NewSchedule, problemFrom, unwrap } from "../../api/client";

export const schedulesQuery = queryOptions({
  queryKey: ["schedules"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/schedules", { signal })),
});

function useThen<Asked, Answer>(change: (asked: Asked) => Promise<Answer>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => queries.invalidateQueries({ queryKey: ["schedules"] }),
  });
}

export const useAddSchedule = () =>
  useThen((body: NewSchedule) => unwrap(client.POST("/api/schedules", { body })));

export const usePauseSchedule = () =>
  useThen(({ id, paused }: { id: number; paused: boolean }) =>
    unwrap(
      client.POST("/api/schedules/{schedule_id}/change", {
        params: { path: { schedule_id: id } },
        body: { paused },
      }),
    ),
  );

export const useRemoveSchedule = () =>
  useThen(async (id: number) => {
    const { error, response } = await client.DELETE("/api/schedules/{schedule_id}", {
      params: { path: { schedule_id: id } },
    });
    if (!response.ok) throw problemFrom(response.status, error);
  });
