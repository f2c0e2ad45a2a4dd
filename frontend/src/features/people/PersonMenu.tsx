import { DropdownMenu } from "radix-ui";
import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";
import { useCan, useMe } from "../../api/me";
import { ROLE_WORDS } from "../../ui/words";
import { useSignOut } from "./queries";

// What opens on request is fetched then.
const PasswordDialog = lazy(async () => ({ default: (await import("./PasswordDialog")).PasswordDialog }));

const ITEM =
  "block w-full cursor-pointer rounded px-2 py-1.5 text-left outline-none data-[highlighted]:bg-ground";

/** Who is signed in, and what they can do about that. */
export function PersonMenu() {
  const me = useMe();
  const keeps = useCan("keep");
  const signOut = useSignOut();
  const [changing, setChanging] = useState(false);
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger
          aria-label={`Signed in as ${me.name}`}
          className="max-w-40 truncate font-medium text-text hover:underline"
        >
          {me.name}
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            sideOffset={8}
            className="z-30 min-w-52 rounded-md border border-line bg-sheet p-1 text-sm shadow-lg"
          >
            <DropdownMenu.Label className="px-2 py-1.5 text-xs text-quiet">
              {ROLE_WORDS[me.role ?? "look"].title}: {ROLE_WORDS[me.role ?? "look"].does}
            </DropdownMenu.Label>
            {keeps && (
              <DropdownMenu.Item asChild>
                <Link to="/people" className={ITEM}>
                  People and tokens
                </Link>
              </DropdownMenu.Item>
            )}
            {keeps && (
              <DropdownMenu.Item asChild>
                <Link to="/notices" className={ITEM}>
                  Notices
                </Link>
              </DropdownMenu.Item>
            )}
            {[
              ["/schedules", "Schedules"],
              ["/record", "Record"],
              ["/storage", "Storage"],
            ].map(([to = "", name]) => (
              <DropdownMenu.Item key={to} asChild>
                <Link to={to} className={ITEM}>
                  {name}
                </Link>
              </DropdownMenu.Item>
            ))}
            <DropdownMenu.Item className={ITEM} onSelect={() => setChanging(true)}>
              Change your password
            </DropdownMenu.Item>
            <DropdownMenu.Item className={ITEM} onSelect={() => signOut.mutate(undefined)}>
              Sign out
            </DropdownMenu.Item>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      {changing && (
        <Suspense fallback={null}>
          <PasswordDialog onClose={() => setChanging(false)} />
        </Suspense>
      )}
    </>
  );
}
