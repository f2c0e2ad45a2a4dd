import { Tooltip as Primitive } from "radix-ui";
import type { ReactNode } from "react";

const DELAY_MS = 250;

/** What words mean, shown beside them while they are pointed at or have the focus. */
export function Tooltip({ words, children }: { words: string; children: ReactNode }) {
  return (
    <Primitive.Root>
      <Primitive.Trigger className="cursor-help text-left underline decoration-line decoration-dotted underline-offset-4">
        {words}
      </Primitive.Trigger>
      <Primitive.Portal>
        <Primitive.Content
          side="left"
          sideOffset={8}
          collisionPadding={12}
          className="z-40 max-w-80 rounded-md border border-line bg-sheet p-3 text-sm leading-5 shadow-lg"
        >
          {children}
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  );
}

/** Around words with tooltips: once one has been shown, the next comes at once. */
export function Tooltips({ children }: { children: ReactNode }) {
  return <Primitive.Provider delayDuration={DELAY_MS}>{children}</Primitive.Provider>;
}
