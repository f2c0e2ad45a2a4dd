import { MOST_SIDES } from "../../api/limits.gen";
import type { Choice } from "../../ui/controls";
import { number } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { ToggleItem } from "../../ui/ToggleGroup";
import type { Asked } from "./address";
import type { HeardSide } from "./queries";

export function SideCard({
  side,
  number: key,
  matched,
  louder,
  chosen,
}: {
  side: HeardSide;
  number: number;
  matched: boolean;
  louder: number;
  chosen: boolean;
}) {
  const gain = (matched ? side.gain : 0) + louder;
  return (
    <ToggleItem
      value={String(key)}
      className={`grid content-start gap-1 rounded-lg border-2 bg-sheet p-3 text-left ${chosen ? "border-text" : "border-line hover:border-quiet"}`}
    >
      <span className="flex items-baseline gap-2">
        <kbd className="font-sans text-xs text-quiet">{key}</kbd>
        <span className={`min-w-0 break-words ${chosen ? "font-semibold" : ""}`}>{side.name}</span>
      </span>
      <span className="text-xs leading-4 text-quiet">
        {gain === 0 ? "no gain" : `${number(gain, 2, true)} dB`}
        {matched && side.error !== null && `, error ${number(side.error, 2, true)} dB`}
        {side.peak !== null && `, peak ${number(side.peak - (matched ? 0 : side.gain) + louder, 1)} dBFS`}
      </span>
      <span className="text-xs leading-4 text-quiet">
        {side.delay === null
          ? "not aligned"
          : side.delay === 0
            ? "no delay taken off"
            : `${number(side.delay, Number.isInteger(side.delay) ? 0 : 3, true)} samples taken off`}
        {side.notes && `; ${side.notes}`}
        {side.why && `; ${side.why}`}
      </span>
    </ToggleItem>
  );
}

const CODECS: Choice[] = [
  { value: "", label: "Add a lossy copy…" },
  ...["mp3-128", "mp3-320", "vorbis-96", "vorbis-160", "opus-64", "opus-128"].map((value) => ({
    value,
    label: `${value.replace("mp3", "MP3").replace("vorbis", "Ogg Vorbis").replace("opus", "Opus").replace("-", ", ")} kbit/s`,
  })),
];

/** A copy of the first side, encoded and decoded. */
export function AddLossy({ asked, onChange }: { asked: Asked; onChange: (change: Partial<Asked>) => void }) {
  const [first] = asked.sides;
  if (!first || first.spec.includes("!") || asked.sides.length >= MOST_SIDES) return null;
  return (
    <Select
      name="Add a lossy copy"
      value=""
      choices={CODECS}
      onChoose={(wanted) => {
        const name = CODECS.find((one) => one.value === wanted)?.label ?? wanted;
        if (wanted)
          onChange({
            sides: [
              ...asked.sides,
              { spec: `${first.spec.split("~")[0]}~${wanted}`, name: `${first.name}, ${name}` },
            ],
          });
      }}
      className="h-9 rounded-md border border-quiet bg-sheet px-2"
    />
  );
}
