import { lazy, Suspense, useState } from "react";
import { useCan, useMe } from "../../api/me";
import { Menu } from "../../ui/Menu";
import { ROLE_WORDS } from "../../ui/words";
import { useSignOut } from "./queries";

// What opens on request is fetched then.
const PasswordDialog = lazy(async () => ({ default: (await import("./PasswordDialog")).PasswordDialog }));

const KEPT = [
  ["/people", "People and tokens"],
  ["/notices", "Notices"],
] as const;
const PAGES = [
  ["/schedules", "Schedules"],
  ["/record", "Record"],
  ["/storage", "Storage"],
] as const;

/** Who is signed in, and what they can do about that. */
export function PersonMenu() {
  const me = useMe();
  const keeps = useCan("keep");
  const signOut = useSignOut();
  const role = ROLE_WORDS[me.role ?? "look"];
  const pages = keeps ? [...KEPT, ...PAGES] : PAGES;
  const [changing, setChanging] = useState(false);
  return (
    <>
      <Menu
        name={`Signed in as ${me.name}`}
        className="max-w-40 truncate font-medium text-text hover:underline"
        align="end"
        items={[
          { kind: "words", label: `${role.title}: ${role.does}` },
          ...pages.map(([to, label]) => ({ kind: "page", to, label }) as const),
          { kind: "act", label: "Change your password", onSelect: () => setChanging(true) },
          { kind: "act", label: "Sign out", onSelect: () => signOut.mutate(undefined) },
        ]}
      >
        {me.name}
      </Menu>
      {changing && (
        <Suspense fallback={null}>
          <PasswordDialog onClose={() => setChanging(false)} />
        </Suspense>
      )}
    </>
  );
}
