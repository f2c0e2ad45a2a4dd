import { useState } from "react";
import { Asking } from "../../ui/Asking";
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
    <Asking
      title="Change your password"
      about="Wherever else you are signed in, you are signed out."
      onClose={onClose}
    >
      <form
        className="grid gap-4"
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
    </Asking>
  );
}
