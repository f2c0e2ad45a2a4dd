import { useState } from "react";
import type { Effect } from "../../api/client";
import { Button, FileButton } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { FIELD, Labelled } from "../../ui/fields";
import { Select } from "../../ui/Select";
import { useMakeSetting } from "./queries";
import { between, read, type Value } from "./values";

interface Set {
  parameter: string;
  text: string;
}

/** Names values of an effect's parameters, over a preset's file where one is chosen. */
export function NewSetting({ effect }: { effect: Effect }) {
  const make = useMakeSetting(effect.id);
  const [name, setName] = useState("");
  const [sets, setSets] = useState<Set[]>([]);
  const [preset, setPreset] = useState<File>();
  const free = effect.parameters
    .map((one) => String(one.name))
    .filter((one) => !sets.some((s) => s.parameter === one));
  const put = (index: number, text: string) =>
    setSets(sets.map((one, i) => (i === index ? { ...one, text } : one)));
  const begin = () => {
    const values: Record<string, Value> = Object.fromEntries(
      sets.filter((one) => one.text.trim() !== "").map((one) => [one.parameter, read(one.text)]),
    );
    make.mutate(
      { name: name.trim(), values, preset },
      {
        onSuccess: () => {
          setName("");
          setSets([]);
          setPreset(undefined);
        },
      },
    );
  };
  return (
    <Form
      title="A new setting"
      about={
        <>
          What is not set stays as the plug-in has it. A value is a number or a text that the plug-in reads;
          one that moves is written as <code>0:0.2, 1.5:0.8</code>, seconds and values, on lines between them
          with <code>ramp</code> before it.
        </>
      }
      error={make.error}
      onSubmit={begin}
    >
      <Fields>
        <Labelled
          label="Name"
          required
          maxLength={120}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        {sets.map((one, index) => (
          <div key={one.parameter} className="w-44">
            <span aria-hidden="true" className="mb-1 block">
              {one.parameter}
            </span>
            <ValueField effect={effect} set={one} onChange={(text) => put(index, text)} />
          </div>
        ))}
        {free.length > 0 && (
          <Select
            name="Set a parameter"
            value=""
            choices={[
              { value: "", label: "Set a parameter…" },
              ...free.map((one) => ({ value: one, label: one })),
            ]}
            onChoose={(parameter) => parameter && setSets([...sets, { parameter, text: "" }])}
            className={`${FIELD} h-9`}
          />
        )}
        <FileButton accept="" onFiles={([file]) => setPreset(file)}>
          {preset ? `Preset: ${preset.name}` : "Begin from a preset…"}
        </FileButton>
        <Button type="submit" needs="work" disabled={name.trim() === "" || make.isPending}>
          Add the setting
        </Button>
      </Fields>
    </Form>
  );
}

function ValueField({
  effect,
  set,
  onChange,
}: {
  effect: Effect;
  set: Set;
  onChange: (text: string) => void;
}) {
  const parameter = effect.parameters.find((one) => one.name === set.parameter);
  const choices = Array.isArray(parameter?.choices) ? parameter.choices.map(String) : [];
  if (choices.length > 0)
    return (
      <Select
        name={set.parameter}
        value={set.text}
        choices={["", ...choices].map((one) => ({ value: one, label: one || "as it comes" }))}
        onChoose={onChange}
        className={`${FIELD} h-9 w-full`}
      />
    );
  return (
    <input
      aria-label={set.parameter}
      value={set.text}
      onChange={(event) => onChange(event.target.value)}
      placeholder={parameter && between(parameter)}
      maxLength={2000}
      className={`${FIELD} h-9 w-full`}
    />
  );
}
