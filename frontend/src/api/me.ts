import { queryOptions, useQuery } from "@tanstack/react-query";
import { client, forgeryToken, type Me, type Person, unwrap } from "./client";

export type Role = Person["role"];

/** Who is signed in, and what each change is to be sent with. */
export const meQuery = queryOptions({
  queryKey: ["me"],
  queryFn: async ({ signal }) => known(await unwrap(client.GET("/api/me", { signal }))),
  staleTime: Number.POSITIVE_INFINITY,
});

/** Changes are sent from now on in the name of the one who has signed in. */
export function known(me: Me): Me {
  forgeryToken.keep(me.forgery_token);
  return me;
}

/** Who is signed in; nobody has no name. */
export function useMe() {
  const { data } = useQuery(meQuery);
  return { name: data?.name ?? "", role: data?.role ?? null };
}

/** Whether who is signed in has a role, or one that reaches further. The server asks again at each change. */
export function useCan(role: Role): boolean {
  const { data } = useQuery(meQuery);
  return data?.roles.includes(role) ?? false;
}
