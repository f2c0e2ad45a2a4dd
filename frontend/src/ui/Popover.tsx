import { Popover as Primitive } from "radix-ui";
import { type ReactNode, useState } from "react";

/** A button beside which a small form opens; Escape closes it, and the focus goes back to the button. */
export function Popover({
  label,
  name,
  className,
  children,
}: {
  label: ReactNode;
  /** What the form is called. */
  name: string;
  /** The look of the button. */
  className: string;
  children: (close: () => void) => ReactNode;
}) {
  const [open, setOpen] = useState(false);
  return (
    <Primitive.Root open={open} onOpenChange={setOpen}>
      <Primitive.Trigger className={className}>{label}</Primitive.Trigger>
      <Primitive.Portal>
        <Primitive.Content
          aria-label={name}
          align="end"
          sideOffset={6}
          collisionPadding={8}
          className="z-30 rounded-md border border-line bg-sheet p-3 text-sm shadow-lg"
        >
          {children(() => setOpen(false))}
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  );
}
