import { Dialog } from "radix-ui";
import { KEY_LIST } from "./keylist";

/** Every key there is. */
export function KeyHelp({ onClose }: { onClose: () => void }) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-50 max-h-[85vh] w-[44rem] max-w-[94vw] -translate-1/2 overflow-auto rounded-lg border border-line bg-sheet p-6"
        >
          <Dialog.Title className="text-lg font-semibold">Keys</Dialog.Title>
          <div className="mt-4 grid grid-cols-2 gap-8">
            {KEY_LIST.map(({ screen, keys }) => (
              <section key={screen}>
                <h3 className="font-semibold">{screen}</h3>
                <dl className="mt-2 grid grid-cols-[7.5rem_1fr] gap-y-1.5">
                  {keys.map(([key, act]) => (
                    <div key={key} className="contents">
                      <dt className="font-medium">{key}</dt>
                      <dd className="text-quiet">{act}</dd>
                    </div>
                  ))}
                </dl>
              </section>
            ))}
          </div>
          <Dialog.Close className="mt-6 h-9 rounded-md border border-line px-3 font-medium">
            Close
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
