import { Dialog } from "radix-ui";
import { useState } from "react";
import { useApprove } from "../api/queries";
import { Button } from "../parts/controls";
import { usePerson } from "../parts/person";

interface Props {
  cells: number[];
  what: string;
  onClose: () => void;
  onDone: () => void;
}

/** Who approves, and why. A refusal is shown here, and nothing that was typed is lost. */
export function ApproveDialog({ cells, what, onClose, onDone }: Props) {
  const [person, setPerson] = usePerson();
  const [name, setName] = useState(person);
  const [why, setWhy] = useState("");
  const approve = useApprove();
  const submit = () => {
    setPerson(name);
    approve.mutate(
      { cell_ids: cells, who: name.trim(), why },
      {
        onSuccess: () => {
          onDone();
          onClose();
        },
      },
    );
  };
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-50 w-[30rem] max-w-[94vw] -translate-1/2 rounded-lg border border-line bg-sheet p-6">
          <Dialog.Title className="text-lg font-semibold">Approve as references</Dialog.Title>
          <Dialog.Description className="mt-1 text-quiet">
            {what}. Later builds are laid over these renders; the references that they replace are kept. One
            undo takes it all back.
          </Dialog.Description>
          <form
            className="mt-4 grid gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              submit();
            }}
          >
            <label className="grid gap-1">
              <span>Your name</span>
              <input
                required
                maxLength={80}
                value={name}
                onChange={(event) => setName(event.target.value)}
                className="h-9 rounded-md border border-quiet bg-ground px-2"
              />
            </label>
            <label className="grid gap-1">
              <span>
                Why <span className="text-quiet">(kept with the references)</span>
              </span>
              <textarea
                rows={3}
                maxLength={2000}
                value={why}
                onChange={(event) => setWhy(event.target.value)}
                className="rounded-md border border-quiet bg-ground p-2"
              />
            </label>
            {approve.error && <p role="alert">{approve.error.message}</p>}
            <div className="mt-1 flex justify-end gap-2">
              <Button onClick={onClose}>Leave it</Button>
              <Button look="main" type="submit" disabled={approve.isPending || name.trim() === ""}>
                {approve.isPending ? "Approving…" : `Approve ${cells.length}`}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
