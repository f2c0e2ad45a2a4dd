import type { InputHTMLAttributes, ReactNode } from "react";
import type { Choice } from "./controls";

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
export function LabelledChoice({
  label,
  value,
  choices,
  onChoose,
}: {
  label: string;
  value: string;
  choices: Choice[];
  onChoose: (value: string) => void;
}) {
  return (
    <label className="grid gap-1">
      <span>{label}</span>
      <select className={`h-9 ${FIELD}`} value={value} onChange={(event) => onChoose(event.target.value)}>
        {choices.map((choice) => (
          <option key={choice.value} value={choice.value}>
            {choice.detail ? `${choice.label}: ${choice.detail}` : choice.label}
          </option>
        ))}
      </select>
    </label>
  );
}

/** A box to be ticked, with its name beside it. */
export function Check({
  label,
  checked,
  onChange,
}: {
  label: string;
  checked: boolean;
  onChange: (checked: boolean) => void;
}) {
  return (
    <label className="mr-1 inline-flex cursor-pointer items-center gap-1.5 whitespace-nowrap">
      <input
        type="checkbox"
        checked={checked}
        onChange={(event) => onChange(event.target.checked)}
        className="size-4 accent-text"
      />
      {label}
    </label>
  );
}
