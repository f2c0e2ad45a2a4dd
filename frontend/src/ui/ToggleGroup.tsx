import { ToggleGroup as Primitive } from "radix-ui";
import type { ReactNode } from "react";

/** One of several that is in force, each with a look of its own. The arrow keys stay with the page, which has its own for them. */
export function ToggleGroup<Value extends string>({
  name,
  value,
  onChoose,
  mayBeNone = false,
  className,
  children,
}: {
  name: string;
  value: Value | undefined;
  /** Undefined where the one that is in force was pressed again, and none may be. */
  onChoose: (value: Value | undefined) => void;
  mayBeNone?: boolean;
  className?: string;
  children: ReactNode;
}) {
  return (
    <Primitive.Root
      type="single"
      rovingFocus={false}
      data-keys="page"
      aria-label={name}
      value={value ?? ""}
      onValueChange={(to) => {
        if (to || mayBeNone) onChoose((to || undefined) as Value | undefined);
      }}
      className={className}
    >
      {children}
    </Primitive.Root>
  );
}

/** One of them. */
export function ToggleItem({
  value,
  disabled = false,
  className,
  children,
}: {
  value: string;
  disabled?: boolean;
  className: string;
  children: ReactNode;
}) {
  return (
    <Primitive.Item value={value} disabled={disabled} className={className}>
      {children}
    </Primitive.Item>
  );
}
