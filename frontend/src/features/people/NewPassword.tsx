import { Labelled } from "../../ui/fields";

const LEAST = 12;

/** A password that is being chosen; the server says whether it will do. */
export function NewPassword({
  label,
  value,
  onChange,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
}) {
  return (
    <Labelled
      label={label}
      note={`at least ${LEAST} characters`}
      type="password"
      autoComplete="new-password"
      required
      minLength={LEAST}
      value={value}
      onChange={(event) => onChange(event.target.value)}
    />
  );
}
