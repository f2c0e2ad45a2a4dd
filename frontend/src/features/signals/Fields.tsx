import { useEffect, useState } from "react";
import type { SignalKind, SignalParameter, SignalRequest } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Select } from "../../ui/Select";
import { asked, withValue } from "./request";

/** Everything that can be set of a kind of signal. */
export function Fields({
  kind,
  request,
  onChange,
}: {
  kind: SignalKind;
  request: SignalRequest;
  onChange: (request: SignalRequest) => void;
}) {
  return (
    <div className="grid grid-cols-2 gap-x-4 gap-y-2.5">
      {kind.parameters.map((parameter) => (
        <Field
          key={`${kind.key}.${parameter.key}`}
          parameter={parameter}
          value={asked(request, parameter)}
          onChange={(value) => onChange(withValue(request, parameter, value))}
        />
      ))}
    </div>
  );
}

type Value = SignalRequest[string];
const BOX = "h-8 w-full rounded border border-quiet bg-sheet px-2";

function Field({
  parameter,
  value,
  onChange,
}: {
  parameter: SignalParameter;
  value: Value;
  onChange: (value: Value) => void;
}) {
  const { title, unit, choices } = parameter;
  if (typeof parameter.default === "boolean")
    return <Check label={title} checked={value === true} onChange={onChange} className="self-end pb-1.5" />;
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is one of the two below
    <label className="block">
      <span className="text-xs text-quiet">
        {title}
        {unit && `, ${unit}`}
      </span>
      {choices.length > 0 ? (
        <Select
          name={title}
          value={String(value)}
          choices={choices.map((choice) => ({ value: choice, label: choice }))}
          onChoose={onChange}
          className={BOX}
        />
      ) : (
        <NumberBox parameter={parameter} value={value as number | null} onChange={onChange} />
      )}
    </label>
  );
}

/** A number that is taken over once it is one, within its bounds; until then the box says so. */
function NumberBox({
  parameter,
  value,
  onChange,
}: {
  parameter: SignalParameter;
  value: number | null;
  onChange: (value: Value) => void;
}) {
  const [text, setText] = useState(value === null ? "" : String(value));
  useEffect(() => setText(value === null ? "" : String(value)), [value]);
  const { least, greatest, whole } = parameter;
  const optional = parameter.default === null;
  const parsed = (written: string): Value | undefined => {
    if (written.trim() === "") return optional ? null : undefined;
    const found = Number(written.replace("−", "-").replace(",", "."));
    const fits =
      Number.isFinite(found) &&
      (least === null || found >= least) &&
      (greatest === null || found <= greatest);
    return fits && (!whole || Number.isInteger(found)) ? found : undefined;
  };
  const wrong = parsed(text) === undefined;
  return (
    <>
      <input
        inputMode="decimal"
        value={text}
        placeholder={optional ? "up to half the rate" : undefined}
        aria-invalid={wrong}
        onChange={(event) => {
          setText(event.target.value);
          const found = parsed(event.target.value);
          if (found !== undefined) onChange(found);
        }}
        className={`${BOX} text-right`}
      />
      {wrong && (
        <span role="alert" className="text-xs">
          {whole ? "A whole number" : "A number"} from {least} to {greatest}
        </span>
      )}
    </>
  );
}
