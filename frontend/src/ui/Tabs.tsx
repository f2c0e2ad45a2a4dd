import { Tabs as Primitive } from "radix-ui";
import type { ReactNode } from "react";

export interface Tab<Value extends string> {
  value: Value;
  label: string;
  /** The key that leads to it from anywhere on the page. */
  hint?: string;
}

/** Several views in one place, one of them shown; the arrow keys go through their names once one has the focus. */
export function Tabs<Value extends string>({
  name,
  tabs,
  value,
  onChoose,
  className = "",
  listClassName = "",
  children,
}: {
  name: string;
  tabs: readonly Tab<Value>[];
  value: Value;
  onChoose: (value: Value) => void;
  className?: string;
  listClassName?: string;
  /** The view that is shown. */
  children: ReactNode;
}) {
  return (
    <Primitive.Root
      value={value}
      onValueChange={(to) => onChoose(to as Value)}
      className={`flex flex-col ${className}`}
    >
      <Primitive.List
        aria-label={name}
        className={`flex flex-wrap gap-x-3.5 border-b border-line ${listClassName}`}
      >
        {tabs.map((tab) => (
          <Primitive.Trigger
            key={tab.value}
            value={tab.value}
            // By the mouse it is chosen without the focus: the arrow keys stay with what is drawn.
            onMouseDown={(event) => {
              event.preventDefault();
              if (event.button === 0 && !event.ctrlKey) onChoose(tab.value);
            }}
            className="-mb-px border-b-2 border-transparent py-1 text-quiet hover:text-text data-[state=active]:border-text data-[state=active]:font-semibold data-[state=active]:text-text"
          >
            {tab.label}
            {tab.hint && (
              <span aria-hidden="true" className="ml-1 text-xs font-normal text-quiet uppercase">
                {tab.hint}
              </span>
            )}
          </Primitive.Trigger>
        ))}
      </Primitive.List>
      <Primitive.Content value={value} tabIndex={-1} className="flex min-h-0 flex-1 flex-col outline-none">
        {children}
      </Primitive.Content>
    </Primitive.Root>
  );
}
