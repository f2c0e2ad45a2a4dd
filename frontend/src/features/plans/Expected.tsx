import type { PlanCase } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { FIELD } from "../../ui/fields";

export type Law = NonNullable<PlanCase["expected"]>;

export const USUAL: Law = { threshold: -20, ratio: 4, knee: 0, makeup: 0 };

const PARTS: { name: keyof Law; label: string; unit: string; step: number }[] = [
  { name: "threshold", label: "threshold", unit: "dBFS", step: 0.5 },
  { name: "ratio", label: "ratio", unit: ": 1", step: 0.1 },
  { name: "knee", label: "knee", unit: "dB", step: 0.5 },
  { name: "makeup", label: "make-up", unit: "dB", step: 0.5 },
];

/** What a compressor should make of levels: measured levels are held against it. */
export function Expected({
  of,
  law,
  onChange,
}: {
  of: string;
  law: Law | null;
  onChange: (law: Law | null) => void;
}) {
  return (
    <div className="flex flex-wrap items-center gap-4">
      <Check
        label="levels held against a compressor's law"
        checked={law !== null}
        onChange={(on) => onChange(on ? USUAL : null)}
      />
      {law && <LawFields of={of} law={law} onChange={onChange} />}
    </div>
  );
}

/** The parts of a law, each in a field. */
export function LawFields({ of, law, onChange }: { of: string; law: Law; onChange: (law: Law) => void }) {
  return PARTS.map(({ name, label, unit, step }) => (
    <label key={name} className="flex items-center gap-1.5 text-quiet">
      {label}
      <input
        type="number"
        aria-label={`${label} expected of ${of}`}
        step={step}
        value={law[name]}
        onChange={(event) => {
          const value = Number(event.target.value);
          if (Number.isFinite(value)) onChange({ ...law, [name]: value });
        }}
        className={`${FIELD} w-18 text-text`}
      />
      {unit}
    </label>
  ));
}
