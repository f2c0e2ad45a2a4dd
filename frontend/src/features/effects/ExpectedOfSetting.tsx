import { useState } from "react";
import type { Setting } from "../../api/client";
import { useCan } from "../../api/me";
import { Button } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { FIELD } from "../../ui/fields";
import { Select } from "../../ui/Select";
import { type Law, LawFields, USUAL } from "../plans/Expected";
import { Quietly } from "../plans/fields";
import { useExpect } from "./queries";
import { expectedText } from "./values";

const UNITY: Law = { threshold: 0, ratio: 1, knee: 0, makeup: 0 };
const LEVELS = [
  { value: "free", label: "are not held" },
  { value: "unity", label: "come out as they go in" },
  { value: "law", label: "follow a compressor's law" },
];

/** What an effect so set is to do, whatever plan asks: told in a line, and said in a form. */
export function ExpectedOfSetting({ setting }: { setting: Setting }) {
  const may = useCan("work");
  const [open, setOpen] = useState(false);
  const text = expectedText(setting);
  if (open && may) return <Said setting={setting} onDone={() => setOpen(false)} />;
  return (
    <span className="ml-3 text-quiet">
      {text}{" "}
      {may && (
        <Quietly onClick={() => setOpen(true)}>
          <span className="sr-only">{`${setting.name}: `}</span>
          {text ? "change what is expected" : "say what is expected"}
        </Quietly>
      )}
    </span>
  );
}

function Said({ setting, onDone }: { setting: Setting; onDone: () => void }) {
  const expect = useExpect(setting.id);
  const { expected } = setting;
  const [law, setLaw] = useState<Law | null>(expected?.law ?? null);
  const [within, setWithin] = useState(expected?.within ?? 0.5);
  const [latency, setLatency] = useState(expected?.latency == null ? "" : String(expected.latency));
  const [levels, setLevels] = useState(() => {
    if (law === null) return "free";
    return law.ratio === 1 && law.makeup === 0 ? "unity" : "law";
  });
  const nothing = law === null && latency.trim() === "";
  const keep = () =>
    expect.mutate(nothing ? null : { law, within, latency: latency.trim() === "" ? null : Number(latency) }, {
      onSuccess: onDone,
    });
  return (
    <Form
      title={`Expected of ${setting.name}`}
      about="Plans that are kept from now on are judged by it: levels on tones and staircases, the latency everywhere."
      className="py-2"
      error={expect.error}
      onSubmit={keep}
    >
      <Fields>
        <div className="grid gap-1">
          <span aria-hidden="true">Levels</span>
          <Select
            name={`Levels expected of ${setting.name}`}
            value={levels}
            choices={LEVELS}
            onChoose={(chosen) => {
              setLevels(chosen);
              setLaw(chosen === "free" ? null : chosen === "unity" ? UNITY : USUAL);
            }}
            className={`${FIELD} h-9`}
          />
        </div>
        {law && levels === "law" && <LawFields of={setting.name} law={law} onChange={setLaw} />}
        {law && (
          <Small
            label="within"
            unit="dB"
            of={setting.name}
            value={String(within)}
            step={0.1}
            onChange={(text) => setWithin(Number(text))}
          />
        )}
        <Small
          label="latency"
          unit="samples"
          of={setting.name}
          value={latency}
          step={1}
          onChange={setLatency}
        />
        <Button
          type="submit"
          look="main"
          needs="work"
          disabled={expect.isPending || (law !== null && !(within > 0))}
        >
          Save
        </Button>
        <Button onClick={onDone}>Cancel</Button>
      </Fields>
    </Form>
  );
}

function Small({
  label,
  unit,
  of,
  value,
  step,
  onChange,
}: {
  label: string;
  unit: string;
  of: string;
  value: string;
  step: number;
  onChange: (text: string) => void;
}) {
  return (
    <label className="flex items-center gap-1.5 text-quiet">
      {label}
      <input
        type="number"
        min={0}
        step={step}
        aria-label={`${label} expected of ${of}`}
        value={value}
        onChange={(event) => onChange(event.target.value)}
        className={`${FIELD} w-20 text-text`}
      />
      {unit}
    </label>
  );
}
