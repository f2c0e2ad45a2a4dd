import { Dialog } from "radix-ui";
import { useState } from "react";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
import { NewPassword } from "./NewPassword";
import { useChangePassword } from "./queries";

/** Where one's own password is changed. */
export function PasswordDialog({ onClose }: { onClose: () => void }) {
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
