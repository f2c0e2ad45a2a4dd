import { type FormEvent, useRef, useState } from "react";
import { Button, Word } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { type Band, bandLabel, bandValue, OCTAVES, typedBand } from "./band";

const ALL = "all";
const TYPED = "typed";

/** The word of the sentence that says which band is heard; the last of its choices opens the fields below. */
export function BandWord({
  band,
  rate,
  onBand,
  onType,
}: {
  band: Band | null;
  rate: number;
  onBand: (band: Band | null) => void;
  onType: () => void;
}) {
  const typing = useRef(false);
  const value = band ? bandValue(band) : ALL;
  const usual = [{ value: ALL, label: "all frequencies" }, ...OCTAVES];
  const own = band && !usual.some((one) => one.value === value);
  return (
    <Word
      name="Band"
      value={value}
      choices={[
        ...usual,
        ...(own ? [{ value, label: bandLabel(band, rate) }] : []),
        { value: TYPED, label: "another band…" },
      ]}
      onChoose={(to) => {
        typing.current = to === TYPED;
        if (typing.current) return;
        if (to === ALL) onBand(null);
        else onBand(to.split("-").map(Number) as Band);
      }}
      onClosed={(event) => {
        // Only now, so that the focus stays in the first of the fields.
        if (typing.current) {
          event.preventDefault();
          onType();
        }
        typing.current = false;
      }}
    />
  );
}

/** Two fields for the edges of any band. */
export function BandFields({
  band,
  rate,
  onBand,
  onClose,
}: {
  band: Band | null;
  rate: number;
  onBand: (band: Band) => void;
  onClose: () => void;
}) {
  const [lowest, setLowest] = useState(band && band[0] > 0 ? String(band[0]) : "");
  const [highest, setHighest] = useState(band && band[1] < rate / 2 ? String(band[1]) : "");
  const [why, setWhy] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const asked = typedBand(lowest, highest, rate);
    if (typeof asked === "string") setWhy(asked);
    else {
      setWhy("");
      onBand(asked);
    }
  };
  return (
    <form
      aria-label="Another band"
      onSubmit={submit}
      onKeyDown={(event) => {
        if (event.key !== "Escape") return;
        event.stopPropagation();
        onClose();
      }}
      className="mt-2 flex flex-wrap items-center gap-x-3 gap-y-2"
    >
      <label className="flex items-center gap-2">
        Lowest frequency
        <input
          // biome-ignore lint/a11y/noAutofocus: the person has just asked for this field
          autoFocus
          className={`h-9 w-24 ${FIELD}`}
          value={lowest}
          placeholder="0 Hz"
          onChange={(event) => setLowest(event.target.value)}
        />
      </label>
      <label className="flex items-center gap-2">
        Highest frequency
        <input
          className={`h-9 w-24 ${FIELD}`}
          value={highest}
          placeholder={`${rate / 2} Hz`}
          onChange={(event) => setHighest(event.target.value)}
        />
      </label>
      <Button type="submit">Hear this band</Button>
      <Button onClick={onClose}>Close</Button>
      {why ? (
        <span role="alert">{why}</span>
      ) : (
        <span className="text-xs text-quiet">Hz, or kHz with a k: 300 to 3.4k</span>
      )}
    </form>
  );
}
