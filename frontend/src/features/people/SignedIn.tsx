import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { meQuery } from "../../api/me";
import { Failed, Loading } from "../../ui/states";
import { SignInPage } from "./SignInPage";

/** What is seen by who is signed in; anybody else signs in first, and is then where they wanted to be. */
export function SignedIn({ children }: { children: ReactNode }) {
  const me = useQuery(meQuery);
  if (me.isPending) return <Loading what="Kind Echo" />;
  if (!me.data) return <Failed error={me.error} onRetry={() => me.refetch()} />;
  return me.data.name === null ? <SignInPage /> : children;
}
