import { useQuery } from "@tanstack/react-query";
import { meQuery, type Role } from "./queries";

const REACHES: Role[] = ["look", "work", "keep"];

/** Who is signed in; nobody has no name. */
export function useMe() {
  const { data } = useQuery(meQuery);
  return { name: data?.name ?? "", role: data?.role ?? null };
}

/** Whether who is signed in has a role, or one that reaches further. The server asks again at each change. */
export function useCan(role: Role): boolean {
  const { role: own } = useMe();
  return own !== null && REACHES.indexOf(own) >= REACHES.indexOf(role);
}
