import { Dialog } from "radix-ui";
import type { ReactNode, RefObject } from "react";

/** A dialog that asks for something before it is done; Escape and what is outside close it. */
export function Asking({
  title,
  about,
  width = "w-[26rem]",
  startHere,
  onClose,
  children,
}: {
  title: string;
  about?: ReactNode;
  width?: string;
  /** What has the focus first; the first control unless it is given. */
  startHere?: RefObject<HTMLElement | null>;
  onClose: () => void;
  children: ReactNode;
}) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          {...(about === undefined ? { "aria-describedby": undefined } : {})}
          {...(startHere
            ? {
                onOpenAutoFocus: (event: Event) => {
                  event.preventDefault();
                  startHere.current?.focus();
                },
              }
            : {})}
          className={`fixed top-1/2 left-1/2 z-50 grid max-h-[94vh] ${width} max-w-[94vw] -translate-1/2 gap-4 overflow-auto rounded-lg border border-line bg-sheet p-6`}
        >
          <div className="grid gap-1">
            <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
            {about !== undefined && <Dialog.Description className="text-quiet">{about}</Dialog.Description>}
          </div>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
