import { Checkbox as Primitive } from "radix-ui";

/** A box to be ticked; its name is said where no label is around it. */
export function Checkbox({
  name,
  checked,
  disabled = false,
  onChange,
}: {
  name?: string;
  checked: boolean;
  disabled?: boolean;
  onChange: (checked: boolean) => void;
}) {
  return (
    <Primitive.Root
      aria-label={name}
      checked={checked}
      disabled={disabled}
      onCheckedChange={(to) => onChange(to === true)}
      className="inline-grid size-4 shrink-0 place-items-center rounded-sm border border-quiet bg-sheet align-[-2px] disabled:opacity-45 data-[state=checked]:border-text data-[state=checked]:bg-text"
    >
      <Primitive.Indicator>
        <svg viewBox="0 0 10 10" aria-hidden="true" className="size-2.5 fill-none stroke-ground stroke-2">
          <path d="M1.5 5.2 4 7.7 8.5 2.4" />
        </svg>
      </Primitive.Indicator>
    </Primitive.Root>
  );
}

/** A box to be ticked, with its name beside it. */
export function Check({
  label,
  checked,
  disabled,
  onChange,
  className = "",
}: {
  label: string;
  checked: boolean;
  disabled?: boolean;
  onChange: (checked: boolean) => void;
  className?: string;
}) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the box is the control
    <label className={`mr-1 inline-flex cursor-pointer items-center gap-1.5 whitespace-nowrap ${className}`}>
      <Checkbox checked={checked} disabled={disabled ?? false} onChange={onChange} />
      {label}
    </label>
  );
}
