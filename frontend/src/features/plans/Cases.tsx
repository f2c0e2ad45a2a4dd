import { useState } from "react";
import type { Effect, Measure, PlanCase, PlanDocument } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Button } from "../../ui/controls";
import { count } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { changed, newCase } from "./document";
import { Expected } from "./Expected";
import { Choose, FIELD, ListField, Quietly } from "./fields";
import { Limits } from "./Limits";

interface Props {
  document: PlanDocument;
  effect: Effect | undefined;
  signals: string[];
  measures: Measure[];
  onChange: (cases: PlanCase[]) => void;
}

const AGAINST = [
  { value: "reference", label: "its approved reference" },
  { value: "signal", label: "the signal itself" },
] as const;

const VARIATIONS = [
  { value: "alike", label: "as the first" },
  { value: "blocks", label: "with blocks of drawn sizes" },
  { value: "state", label: "from the state that was saved" },
  { value: "instances", label: "beside another instance" },
  { value: "reset", label: "after a render and a reset" },
] as const;

/** The rows of the sheet: a signal through a setting, or through those that a sweep makes of it. */
export function Cases({ document, effect, signals, measures, onChange }: Props) {
  const [open, setOpen] = useState<number>();
  const settings = [
    ...new Set([
      ...(effect?.settings.filter((one) => !one.archived).map((one) => one.name) ?? []),
      ...Object.keys(document.settings),
    ]),
  ];
  const known = [...new Set([...signals, ...Object.keys(document.signals)])].sort();
  const parameters = effect?.parameters.map((one) => String(one.name)) ?? [];
  return (
    <div className="grid gap-1.5">
      {document.cases.map((one, i) => {
        const put = (change: Partial<PlanCase>) =>
          onChange(changed(document.cases, i, { ...one, ...change }));
        const of = `case ${i + 1}`;
        const limits = Object.keys(one.limits).length;
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a case has no name but its place
          <div key={i} className="grid gap-1.5">
            <div className="flex flex-wrap items-center gap-2 pl-8">
              <span className="-ml-8 w-6 text-right text-quiet">{i + 1}</span>
              <Choose
                label={`Signal of ${of}`}
                value={one.signal}
                choices={known}
                className="w-46"
                onChange={(signal) => put({ signal })}
              />
              <span className="text-quiet">through</span>
              <Choose
                label={`Setting of ${of}`}
                value={one.setting}
                choices={settings}
                className="w-36"
                onChange={(setting) => put({ setting })}
              />
              <Choose
                label={`Parameter that ${of} sweeps`}
                value={one.sweep?.parameter ?? ""}
                any="no sweep"
                choices={parameters}
                className="w-28"
                onChange={(parameter) =>
                  put({
                    sweep: parameter
                      ? { parameter, values: one.sweep?.values ?? [0], summed: one.sweep?.summed ?? false }
                      : null,
                  })
                }
              />
              {one.sweep && (
                <ListField
                  label={`Values of the sweep of ${of}`}
                  values={one.sweep.values}
                  placeholder="2, 4, 8"
                  className="w-36"
                  onChange={(values) =>
                    one.sweep && put({ sweep: { ...one.sweep, values: values.length > 0 ? values : [0] } })
                  }
                />
              )}
              <label className="flex items-center gap-1.5 text-quiet">
                takes
                <input
                  type="number"
                  min={1}
                  max={50}
                  value={one.takes}
                  onChange={(event) => {
                    const takes = Math.max(1, Number(event.target.value) || 1);
                    put({ takes, variation: takes > 1 ? one.variation : null });
                  }}
                  className={`${FIELD} w-14 text-text`}
                />
              </label>
              <Quietly onClick={() => setOpen(open === i ? undefined : i)}>
                {limits > 0 ? `more, ${count(limits, "limit")} of its own` : "more"}
              </Quietly>
              {document.cases.length > 1 && (
                <Quietly onClick={() => onChange(changed(document.cases, i, undefined))}>remove</Quietly>
              )}
            </div>
            {open === i && (
              <div className="mb-2 ml-8 grid gap-1.5 border-l-2 border-line pl-3">
                <div className="flex flex-wrap items-center gap-4">
                  <span className="flex items-center gap-1.5">
                    compared with
                    <Select
                      name={`What ${of} is compared with`}
                      value={one.against}
                      choices={AGAINST}
                      onChoose={(against) => put({ against })}
                      className={FIELD}
                    />
                  </span>
                  {one.takes > 1 && (
                    <span className="flex items-center gap-1.5">
                      further takes
                      <Select
                        name={`How further takes of ${of} are rendered`}
                        value={one.variation ?? "alike"}
                        choices={VARIATIONS}
                        onChoose={(chosen) => put({ variation: chosen === "alike" ? null : chosen })}
                        className={FIELD}
                      />
                    </span>
                  )}
                  {one.sweep && (
                    <Check
                      label="the sweep's renders added up to one"
                      checked={one.sweep.summed}
                      onChange={(summed) => one.sweep && put({ sweep: { ...one.sweep, summed } })}
                    />
                  )}
                </div>
                <Expected of={of} law={one.expected} onChange={(expected) => put({ expected })} />
                <Check
                  label="judged by all that is usual"
                  checked={one.measures === null}
                  onChange={(on) => put({ measures: on ? null : [] })}
                />
                <Limits
                  of={of}
                  limits={one.limits}
                  measures={measures}
                  onChange={(all) => put({ limits: all })}
                />
              </div>
            )}
          </div>
        );
      })}
      <div className="pl-8">
        <Button
          small
          onClick={() => onChange([...document.cases, newCase(document, settings[0] ?? "", known[0] ?? "")])}
        >
          Add a case
        </Button>
      </div>
    </div>
  );
}
