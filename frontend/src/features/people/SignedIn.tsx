import { useQuery } from "@tanstack/react-query";
import { lazy, type ReactNode } from "react";
import { meQuery } from "../../api/me";
import { Failed, Loading } from "../../ui/states";

const SignInPage = lazy(async () => ({ default: (await import("./SignInPage")).SignInPage }));

/** What is seen by who is signed in; anybody else signs in first, and is then where they wanted to be. */
export function SignedIn({ children }: { children: ReactNode }) {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading what="Kind Echo" />;
  if (!me.data) return <Failed error={me.error} onRetry={() => me.refetch()} />;
  return me.data.name === null ? <SignInPage /> : children;
}
