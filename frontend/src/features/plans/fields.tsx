import { type ReactNode, useState } from "react";
import { Select } from "../../ui/Select";
import { listed } from "./document";

export const FIELD = "h-8 rounded-md border border-line bg-sheet px-2 hover:border-quiet";

export function Choose({
  label,
  value,
  choices,
  any,
  className = "",
  onChange,
}: {
  label: string;
  value: string;
  choices: string[];
  any?: string;
  className?: string;
  onChange: (value: string) => void;
}) {
  const all = choices.includes(value) || value === "" ? choices : [value, ...choices];
  return (
    <Select
      name={label}
      value={value}
      choices={[
        ...(any === undefined ? [] : [{ value: "", label: any }]),
        ...all.map((one) => ({ value: one, label: one })),
      ]}
      onChoose={onChange}
      className={`${FIELD} ${className}`}
    />
  );
}

/** A list of numbers or words; it is taken over when the field is left, or with Enter. */
export function ListField({
  label,
  values,
  placeholder,
  className = "",
  onChange,
}: {
  label: string;
  values: (number | string)[];
  placeholder?: string;
  className?: string;
  onChange: (values: (number | string)[]) => void;
}) {
  const [text, setText] = useState<string>();
  const done = () => {
    if (text !== undefined) onChange(listed(text));
    setText(undefined);
  };
  return (
    <input
      aria-label={label}
      value={text ?? values.join(", ").replaceAll("-", "−")}
      placeholder={placeholder}
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && done()}
      className={`${FIELD} ${className}`}
    />
  );
}

/** A number that may be missing. */
export function NumberField({
  label,
  value,
  onChange,
}: {
  label: string;
  value: number | null;
  onChange: (value: number | null) => void;
}) {
  const [text, setText] = useState<string>();
  const done = () => {
    if (text === undefined) return;
    const wanted = Number(text.replace("−", "-").replace(",", "."));
    onChange(text.trim() === "" || !Number.isFinite(wanted) ? null : wanted);
    setText(undefined);
  };
  return (
    <input
      aria-label={label}
      inputMode="decimal"
      value={text ?? (value === null ? "" : String(value).replace("-", "−"))}
      placeholder="—"
      onChange={(event) => setText(event.target.value)}
      onBlur={done}
      onKeyDown={(event) => event.key === "Enter" && done()}
      className={`${FIELD} w-20 text-right`}
    />
  );
}

export function Section({ title, note, children }: { title: string; note?: string; children: ReactNode }) {
  return (
    <section className="border-t border-line px-5 py-4 first:border-t-0">
      <h2 className="font-semibold">{title}</h2>
      {note && <p className="mb-2 text-xs text-quiet">{note}</p>}
      {children}
    </section>
  );
}

export function Quietly({ children, onClick }: { children: ReactNode; onClick: () => void }) {
  return (
    <button
      type="button"
      onClick={onClick}
      className="text-xs whitespace-nowrap text-quiet underline decoration-line hover:decoration-text"
    >
      {children}
    </button>
  );
}
