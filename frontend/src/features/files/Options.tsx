import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Check } from "../../ui/Checkbox";
import { Button } from "../../ui/controls";
import { FIELD, Labelled, LabelledChoice } from "../../ui/fields";
import { number } from "../../ui/numbers";
import { signalsQuery } from "../signals/queries";
import type { FileSet, SetOptions } from "./queries";

const ALIGNS = [
  { value: "samples", label: "Whole samples" },
  { value: "fraction", label: "Fractions of a sample" },
  { value: "none", label: "Nothing" },
];
const ALSO = [
  { value: "nothing", label: "Levels only" },
  { value: "tone", label: "A steady tone" },
  { value: "signal", label: "Library signal" },
  { value: "lossy", label: "Lossy encoding" },
];
const CODECS = [
  { value: "mp3", label: "MP3" },
  { value: "vorbis", label: "Ogg Vorbis" },
  { value: "opus", label: "Opus" },
];

/** What the files are measured for, as the end of the sentence. */
export function MeasuredFor({ options }: { options: SetOptions }) {
  const signals = useQuery({ ...signalsQuery, enabled: options.also === "signal" });
  if (options.also === "nothing") return null;
  const name = signals.data?.signals.find((one) => one.id === options.signal_id)?.name ?? "a signal";
  const what =
    options.also === "tone"
      ? `a tone of ${number(options.frequency ?? 0, 0)} Hz`
      : options.also === "lossy"
        ? `what ${options.codec} at ${number(options.bitrate ?? 0, 0)} kbit/s does`
        : `responses to “${name}”`;
  return (
    <>
      , measured for <b className="font-semibold">{what}</b>
    </>
  );
}

/** Comparison settings, and for what they are measured: kept together, for all are measured anew. */
export function Options({
  set,
  pending,
  onChange,
  onAgain,
}: {
  set: FileSet;
  pending: boolean;
  onChange: (to: { options: SetOptions }) => void;
  onAgain: () => void;
}) {
  const [to, setTo] = useState(set.options);
  const signals = useQuery(signalsQuery);
  const change = (part: Partial<SetOptions>) => setTo((before) => ({ ...before, ...part }));
  const numeric = (text: string) => (text === "" ? null : Number(text));
  const unready = (to.also === "tone" && !to.frequency) || (to.also === "signal" && to.signal_id == null);
  return (
    <form
      aria-label="Comparison settings"
      className="mx-5 mb-3 grid gap-4 rounded-md border border-line bg-sheet p-4 lg:grid-cols-2"
      onSubmit={(event) => {
        event.preventDefault();
        onChange({ options: to });
      }}
    >
      <fieldset className="flex flex-wrap content-start items-end gap-x-5 gap-y-3">
        <legend className="mb-2 font-semibold">Against the reference</legend>
        <LabelledChoice
          label="Delay compensation"
          value={to.align ?? "samples"}
          choices={ALIGNS}
          onChoose={(align) => change({ align: align as NonNullable<SetOptions["align"]> })}
        />
        <Labelled
          label="Search within"
          note="samples"
          type="number"
          min={1}
          placeholder="any"
          className={`h-9 w-32 ${FIELD}`}
          value={to.max_delay ?? ""}
          onChange={(event) => change({ max_delay: numeric(event.target.value) })}
        />
        <Labelled
          label="Ceiling"
          note="dBFS; changes under it are counted"
          type="number"
          step="any"
          placeholder="none"
          className={`h-9 w-32 ${FIELD}`}
          value={to.ceiling ?? ""}
          onChange={(event) => change({ ceiling: numeric(event.target.value) })}
        />
        <Check
          label="Match gain"
          checked={to.match_gain ?? false}
          onChange={(match_gain) => change({ match_gain })}
        />
        <Check
          label="Match polarity"
          checked={to.match_polarity ?? false}
          onChange={(match_polarity) => change({ match_polarity })}
        />
        <Check
          label="Resample files of another rate"
          checked={to.resample ?? false}
          onChange={(resample) => change({ resample })}
        />
      </fieldset>
      <fieldset className="flex flex-wrap content-start items-end gap-x-5 gap-y-3">
        <legend className="mb-2 font-semibold">Measured for</legend>
        <LabelledChoice
          label="Beside levels"
          value={to.also ?? "nothing"}
          choices={ALSO}
          onChoose={(also) => change({ also: also as NonNullable<SetOptions["also"]> })}
        />
        {to.also === "tone" && (
          <Labelled
            label="Frequency"
            note="Hz"
            type="number"
            step="any"
            min={1}
            required
            value={to.frequency ?? ""}
            onChange={(event) => change({ frequency: numeric(event.target.value) })}
          />
        )}
        {to.also === "signal" && (
          <LabelledChoice
            label="Input signal"
            value={String(to.signal_id ?? "")}
            choices={[
              { value: "", label: "Choose one" },
              ...(signals.data?.signals ?? []).map((one) => ({ value: String(one.id), label: one.name })),
            ]}
            onChoose={(value) => change({ signal_id: value === "" ? null : Number(value) })}
          />
        )}
        {to.also === "lossy" && (
          <>
            <LabelledChoice
              label="Codec"
              value={to.codec ?? "mp3"}
              choices={CODECS}
              onChoose={(codec) => change({ codec: codec as NonNullable<SetOptions["codec"]> })}
            />
            <Labelled
              label="Bit rate"
              note="kbit/s"
              type="number"
              min={8}
              max={512}
              value={to.bitrate ?? 128}
              onChange={(event) => change({ bitrate: Number(event.target.value) })}
            />
          </>
        )}
      </fieldset>
      <div className="flex gap-2 lg:col-span-2">
        <Button type="submit" look="main" disabled={pending || unready}>
          Measure
        </Button>
        <Button disabled={pending} onClick={onAgain}>
          Measure again, unchanged
        </Button>
      </div>
    </form>
  );
}
