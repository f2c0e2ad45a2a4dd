import { Collapsible as Primitive } from "radix-ui";
import type { ReactNode } from "react";

/** A part of a page that is folded away until it is wanted. */
export function Collapsible({
  title,
  strong = false,
  className = "",
  children,
}: {
  title: string;
  strong?: boolean;
  className?: string;
  children: ReactNode;
}) {
  return (
    <Primitive.Root className={className}>
      <Primitive.Trigger
        className={`group flex cursor-pointer items-baseline gap-1.5 text-left ${strong ? "font-semibold" : ""}`}
      >
        <span aria-hidden="true" className="inline-block w-2 text-quiet group-data-[state=open]:rotate-90">
          ›
        </span>
        {title}
      </Primitive.Trigger>
      <Primitive.Content>{children}</Primitive.Content>
    </Primitive.Root>
  );
}
