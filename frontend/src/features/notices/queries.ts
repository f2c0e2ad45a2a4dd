import { queryOptions } from "@tanstack/react-query";
import { useChange } from "../../api/changing";
import { client, type NewNoticeTarget, type NoticeTarget, unwrap } from "../../api/client";

const LOOK_AGAIN_MS = 3000;

/** Where notices go and what was sent; asked again while something is on its way. */
export const noticesQuery = queryOptions({
  queryKey: ["notices"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/notices", { signal })),
  refetchInterval: ({ state }) =>
    state.data?.notices.some((one) => one.state === "waiting" && one.attempts === 0) ? LOOK_AGAIN_MS : false,
});

export const useAddTarget = () =>
  useChange("notices", (body: NewNoticeTarget) => unwrap(client.POST("/api/notices/targets", { body })));

export const useChangeTarget = () =>
  useChange(
    "notices",
    ({ id, ...asked }: { id: number; topics?: NoticeTarget["topics"]; paused?: boolean }) =>
      unwrap(
        client.POST("/api/notices/targets/{target_id}/change", {
          params: { path: { target_id: id } },
          body: { topics: null, paused: null, ...asked },
        }),
      ),
  );

export const useTryTarget = () =>
  useChange("notices", (id: number) =>
    unwrap(client.POST("/api/notices/targets/{target_id}/test", { params: { path: { target_id: id } } })),
  );

export const useTellAgain = () =>
  useChange("notices", (id: number) =>
    unwrap(client.POST("/api/notices/{notice_id}/again", { params: { path: { notice_id: id } } })),
  );

export const useRemoveTarget = () =>
  useChange("notices", (id: number) =>
    unwrap(
      client.DELETE("/api/notices/targets/{target_id}", {
        params: { path: { target_id: id } },
      }),
    ),
  );
