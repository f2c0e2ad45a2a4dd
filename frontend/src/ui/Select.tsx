import { Select as Primitive } from "radix-ui";
import type { Choice } from "./controls";

/** One of several, shown closed. Its name is what a screen reader says where no label is around it. */
export function Select<Value extends string>({
  name,
  value,
  choices,
  onChoose,
  className = "h-9 rounded-md border border-quiet bg-ground px-2",
}: {
  name: string;
  value: Value;
  choices: readonly Choice<Value>[];
  onChoose: (value: Value) => void;
  /** Height, border and ground: those of the fields beside it. */
  className?: string;
}) {
  const chosen = choices.find((choice) => choice.value === value);
  const shown = chosen ? textOf(chosen) : value;
  return (
    // The primitive takes an empty text for no choice at all: each value has a letter before it.
    <Primitive.Root value={`=${value}`} onValueChange={(to) => onChoose(to.slice(1) as Value)}>
      <Primitive.Trigger
        aria-label={shown ? `${name}: ${shown}` : name}
        className={`inline-flex items-center justify-between gap-2 text-left ${className}`}
      >
        <span className="truncate">{shown}</span>
        <span aria-hidden="true" className="text-xs text-quiet">
          ▾
        </span>
      </Primitive.Trigger>
      <Primitive.Portal>
        <Primitive.Content
          position="popper"
          sideOffset={4}
          className="z-50 max-h-(--radix-select-content-available-height) min-w-(--radix-select-trigger-width) overflow-auto rounded-md border border-line bg-sheet p-1 text-sm shadow-lg"
        >
          <Primitive.Viewport>
            {choices.map((choice) => (
              <Primitive.Item
                key={choice.value}
                value={`=${choice.value}`}
                className="cursor-pointer rounded px-2 py-1.5 outline-none data-[highlighted]:bg-ground data-[state=checked]:font-semibold"
              >
                <Primitive.ItemText>{textOf(choice)}</Primitive.ItemText>
              </Primitive.Item>
            ))}
          </Primitive.Viewport>
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  );
}

const textOf = (choice: Choice): string =>
  choice.detail ? `${choice.label}: ${choice.detail}` : choice.label;
