import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { client, unwrap } from "../../api/client";

export const effectsQuery = queryOptions({
  queryKey: ["effects"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/effects", { signal })),
});

export const useAddEffect = () => {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (name: string) => unwrap(client.POST("/api/effects", { body: { name } })),
    onSuccess: () =>
      Promise.all([
        queries.invalidateQueries({ queryKey: ["hosts"] }),
        queries.invalidateQueries({ queryKey: ["effects"] }),
      ]),
  });
};
