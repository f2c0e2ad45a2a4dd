import type { InputHTMLAttributes, ReactNode } from "react";
import type { Choice } from "./controls";
import { Select } from "./Select";

export const FIELD = "rounded-md border border-quiet bg-ground px-2";

/** A field with its name above it, and what is to be known of it beside the name. */
export function Labelled({
  label,
  note,
  ...rest
}: { label: string; note?: ReactNode } & InputHTMLAttributes<HTMLInputElement>) {
  return (
    <label className="grid gap-1">
      <span>
        {label} {note && <span className="text-quiet">({note})</span>}
      </span>
      <input className={`h-9 ${FIELD}`} {...rest} />
    </label>
  );
}

/** A choice with its name above it. */
export function LabelledChoice<Value extends string>({
  label,
  value,
  choices,
  onChoose,
}: {
  label: string;
  value: Value;
  choices: readonly Choice<Value>[];
  onChoose: (value: Value) => void;
}) {
  return (
    <div className="grid gap-1">
      <span aria-hidden="true">{label}</span>
      <Select name={label} value={value} choices={choices} onChoose={onChoose} />
    </div>
  );
}
