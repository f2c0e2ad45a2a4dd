import { Dialog, DropdownMenu } from "radix-ui";
import { useState } from "react";
import { Link } from "react-router";
import { useCan, useMe } from "../../api/me";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
import { ROLE_WORDS } from "../../ui/words";
import { NewPassword } from "./NewPassword";
import { useChangePassword, useSignOut } from "./queries";

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
      {changing && <PasswordDialog onClose={() => setChanging(false)} />}
    </>
  );
}

function PasswordDialog({ onClose }: { onClose: () => void }) {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const change = useChangePassword();
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-50 w-[26rem] max-w-[94vw] -translate-1/2 rounded-lg border border-line bg-sheet p-6">
          <Dialog.Title className="text-lg font-semibold">Change your password</Dialog.Title>
          <Dialog.Description className="mt-1 text-quiet">
            Wherever else you are signed in, you are signed out.
          </Dialog.Description>
          <form
            className="mt-4 grid gap-4"
            onSubmit={(event) => {
              event.preventDefault();
              change.mutate({ old, new: next }, { onSuccess: onClose });
            }}
          >
            <Labelled
              label="Current password"
              type="password"
              autoComplete="current-password"
              required
              value={old}
              onChange={(event) => setOld(event.target.value)}
            />
            <NewPassword label="New password" value={next} onChange={setNext} />
            {change.error && <p role="alert">{change.error.message}</p>}
            <div className="flex justify-end gap-2">
              <Button onClick={onClose}>Cancel</Button>
              <Button look="main" type="submit" disabled={change.isPending}>
                Change password
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
