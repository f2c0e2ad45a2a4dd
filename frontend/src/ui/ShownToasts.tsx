import { Toast as Primitive } from "radix-ui";
import type { Said } from "./Toast";

const SHOWN_MS = 8000;

/** What is said, the latest last; F8 leads to it. */
export function ShownToasts({ said, onGone }: { said: Said[]; onGone: (number: number) => void }) {
  return (
    <Primitive.Provider duration={SHOWN_MS} label="Notifications">
      {said.map(({ number, words, stays }) => (
        <Primitive.Root
          key={number}
          {...(stays ? { duration: Number.POSITIVE_INFINITY } : {})}
          onOpenChange={(open) => {
            if (!open) onGone(number);
          }}
          className="flex items-baseline gap-4 rounded-md border border-quiet bg-sheet px-4 py-2.5 shadow-lg"
        >
          <Primitive.Description>{words}</Primitive.Description>
          <Primitive.Close className="ml-auto text-xs text-quiet underline decoration-line hover:text-text">
            Close
          </Primitive.Close>
        </Primitive.Root>
      ))}
      <Primitive.Viewport className="fixed right-5 bottom-20 z-40 grid max-w-[min(28rem,90vw)] gap-2 outline-none print:hidden" />
    </Primitive.Provider>
  );
}
