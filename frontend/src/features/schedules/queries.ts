import { queryOptions } from "@tanstack/react-query";
import { useChange } from "../../api/changing";
import { client, type NewSchedule, unwrap } from "../../api/client";

export const schedulesQuery = queryOptions({
  queryKey: ["schedules"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/schedules", { signal })),
});

export const useAddSchedule = () =>
  useChange("schedules", (body: NewSchedule) => unwrap(client.POST("/api/schedules", { body })));

export const usePauseSchedule = () =>
  useChange("schedules", ({ id, paused }: { id: number; paused: boolean }) =>
    unwrap(
      client.POST("/api/schedules/{schedule_id}/change", {
        params: { path: { schedule_id: id } },
        body: { paused },
      }),
    ),
  );

export const useRemoveSchedule = () =>
  useChange("schedules", (id: number) =>
    unwrap(
      client.DELETE("/api/schedules/{schedule_id}", {
        params: { path: { schedule_id: id } },
      }),
    ),
  );
