import { RadioGroup as Primitive } from "radix-ui";
import { type ReactNode, type Ref, useId } from "react";

export interface Way<Value extends string> {
  value: Value;
  label: ReactNode;
  /** What it means, below it. */
  about?: ReactNode;
  disabled?: boolean;
}

/** One of several, all of them shown. */
export function RadioGroup<Value extends string>({
  name,
  value,
  ways,
  onChoose,
  startHere,
  className = "grid gap-1.5",
}: {
  name: string;
  value: Value;
  ways: readonly Way<Value>[];
  onChoose: (value: Value) => void;
  /** Where the focus is put when what is around it opens. */
  startHere?: Ref<HTMLButtonElement>;
  className?: string;
}) {
  const id = useId();
  return (
    <Primitive.Root
      aria-label={name}
      value={`=${value}`}
      onValueChange={(to) => onChoose(to.slice(1) as Value)}
      className={className}
    >
      {ways.map((way) => (
        <div key={way.value} className="flex items-start gap-2">
          <Primitive.Item
            id={`${id}-${way.value}`}
            value={`=${way.value}`}
            disabled={way.disabled ?? false}
            ref={way.value === value ? startHere : undefined}
            className="mt-0.5 inline-grid size-4 shrink-0 place-items-center rounded-full border border-quiet bg-sheet disabled:opacity-45 data-[state=checked]:border-text"
          >
            <Primitive.Indicator className="size-2 rounded-full bg-text" />
          </Primitive.Item>
          <label htmlFor={`${id}-${way.value}`} className={way.disabled ? "text-quiet" : "cursor-pointer"}>
            {way.label}
            {way.about && <span className="block text-xs text-quiet">{way.about}</span>}
          </label>
        </div>
      ))}
    </Primitive.Root>
  );
}
