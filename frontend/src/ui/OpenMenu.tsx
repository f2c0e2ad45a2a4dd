import { DropdownMenu } from "radix-ui";
import { useEffect, useRef } from "react";
import { Link } from "react-router";
import type { MenuItem, MenuProps } from "./Menu";

const ITEM =
  "flex w-full cursor-pointer items-baseline gap-3 rounded px-2 py-1.5 text-left outline-none data-[disabled]:cursor-default data-[disabled]:text-quiet data-[highlighted]:bg-ground data-[state=checked]:font-semibold";

export interface OpenMenuProps extends MenuProps {
  /** Opened by a key: its first line has the focus. */
  byKey: boolean;
}

/** A menu that is open, and can be closed and opened again. */
export function OpenMenu({
  name,
  className,
  children,
  items,
  align = "start",
  onClosed,
  byKey,
}: OpenMenuProps) {
  const content = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (!byKey) return;
    const shown = requestAnimationFrame(() =>
      content.current?.querySelector<HTMLElement>("[role^=menuitem]:not([data-disabled])")?.focus(),
    );
    return () => cancelAnimationFrame(shown);
  }, [byKey]);
  const lines = items.map((item, place) => (
    // biome-ignore lint/suspicious/noArrayIndexKey: the lines of a menu keep their order
    <Line key={place} item={item} place={place} />
  ));
  return (
    <DropdownMenu.Root defaultOpen>
      <DropdownMenu.Trigger aria-label={name} className={className}>
        {children}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          ref={content}
          align={align}
          sideOffset={6}
          {...(onClosed ? { onCloseAutoFocus: onClosed } : {})}
          className="z-30 max-h-(--radix-dropdown-menu-content-available-height) max-w-96 min-w-44 overflow-auto rounded-md border border-line bg-sheet p-1 text-sm shadow-lg"
        >
          {items.some((item) => item.kind === "choice") ? (
            <DropdownMenu.RadioGroup
              value={String(items.findIndex((item) => item.kind === "choice" && item.chosen))}
            >
              {lines}
            </DropdownMenu.RadioGroup>
          ) : (
            lines
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Line({ item, place }: { item: MenuItem; place: number }) {
  switch (item.kind) {
    case "act":
      return (
        <DropdownMenu.Item className={ITEM} disabled={item.disabled ?? false} onSelect={item.onSelect}>
          {item.label}
        </DropdownMenu.Item>
      );
    case "page":
      return (
        <DropdownMenu.Item asChild>
          <Link to={item.to} className={ITEM}>
            {item.label}
          </Link>
        </DropdownMenu.Item>
      );
    case "file":
      return (
        <DropdownMenu.Item asChild className={ITEM}>
          <a href={item.address} download>
            {item.label}
          </a>
        </DropdownMenu.Item>
      );
    case "choice":
      return (
        <DropdownMenu.RadioItem value={String(place)} className={ITEM} onSelect={item.onSelect}>
          <span>{item.label}</span>
          {item.detail && <span className="ml-auto text-xs font-normal text-quiet">{item.detail}</span>}
        </DropdownMenu.RadioItem>
      );
    case "check":
      return (
        <DropdownMenu.CheckboxItem
          checked={item.checked}
          onCheckedChange={item.onSelect}
          onSelect={(event) => event.preventDefault()}
          className={ITEM}
        >
          <span aria-hidden="true" className="w-3">
            {item.checked ? "×" : ""}
          </span>
          {item.label}
        </DropdownMenu.CheckboxItem>
      );
    case "words":
      return (
        <DropdownMenu.Label className="max-w-60 px-2 py-1.5 text-xs text-quiet">
          {item.label}
        </DropdownMenu.Label>
      );
    case "line":
      return <DropdownMenu.Separator className="my-1 h-px bg-line" />;
  }
}
