import { queryOptions, useMutation, useQueryClient } from "@tanstack/react-query";
import { useChange } from "../../api/changing";
import { client, type Me, type Token, unwrap } from "../../api/client";
import { known, meQuery, type Role } from "../../api/me";

/** A way in or out: the page then shows what the one who is signed in may see, and nothing of anybody before. */
function useWay<Body>(way: (body: Body) => Promise<Me>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: way,
    onSuccess: (me) => {
      queries.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
      queries.setQueryData(meQuery.queryKey, known(me));
    },
  });
}

export const useSignIn = () =>
  useWay((body: { name: string; password: string }) => unwrap(client.POST("/api/sign-in", { body })));

export const useLink = () =>
  useWay((body: { secret: string; password: string | null }) =>
    unwrap(client.POST("/api/links/use", { body })),
  );

export const useSignOut = () => useWay(() => unwrap(client.POST("/api/sign-out")));

export const useChangePassword = () =>
  useWay((body: { old: string; new: string }) => unwrap(client.POST("/api/me/password", { body })));

/** Whose link it is; asked for once, and not kept. */
export const linkQuery = (secret: string) =>
  queryOptions({
    queryKey: ["link", secret],
    queryFn: ({ signal }) => unwrap(client.POST("/api/links/open", { body: { secret }, signal })),
    staleTime: Number.POSITIVE_INFINITY,
    gcTime: 0,
  });

export const peopleQuery = queryOptions({
  queryKey: ["people"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/people", { signal })),
});

export const tokensQuery = queryOptions({
  queryKey: ["tokens"],
  queryFn: ({ signal }) => unwrap(client.GET("/api/tokens", { signal })),
});

export const useAddPerson = () =>
  useChange("people", (body: { name: string; role: Role }) => unwrap(client.POST("/api/people", { body })));

export const useChangePerson = () =>
  useChange("people", ({ id, role, disabled }: { id: number; role?: Role; disabled?: boolean }) =>
    unwrap(
      client.POST("/api/people/{person_id}/change", {
        params: { path: { person_id: id } },
        body: { role: role ?? null, disabled: disabled ?? null },
      }),
    ),
  );

export const useResetPerson = () =>
  useChange("people", (id: number) =>
    unwrap(client.POST("/api/people/{person_id}/reset", { params: { path: { person_id: id } } })),
  );

export const useMakeToken = () =>
  useChange("tokens", (body: { name: string; scope: Token["scope"]; days: number }) =>
    unwrap(client.POST("/api/tokens", { body })),
  );

export const useRevokeToken = () =>
  useChange("tokens", (id: number) =>
    unwrap(client.POST("/api/tokens/{token_id}/revoke", { params: { path: { token_id: id } } })),
  );
