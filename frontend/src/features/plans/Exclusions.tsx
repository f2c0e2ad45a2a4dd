import type { Exclusion, PlanDocument } from "../../api/client";
import { Button } from "../../ui/controls";
import { kilohertz } from "../../ui/numbers";
import { changed } from "./document";
import { Choose, Quietly } from "./fields";

const NOTHING: Exclusion = {
  signal: null,
  setting: null,
  host: null,
  version: null,
  mode: null,
  rate: null,
  block: null,
};

/** Combinations that are not rendered: all cells that are alike in everything that is named. */
export function Exclusions({
  document,
  onChange,
}: {
  document: PlanDocument;
  onChange: (exclude: Exclusion[]) => void;
}) {
  const { cases, conditions, exclude } = document;
  const of = <T,>(values: T[]) => [...new Set(values)];
  const rates = of(conditions.flatMap((one) => one.rates)).sort((a, b) => a - b);
  return (
    <div className="grid gap-1.5">
      {exclude.map((one, i) => {
        const put = (change: Partial<Exclusion>) => onChange(changed(exclude, i, { ...one, ...change }));
        const name = `exclusion ${i + 1}`;
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: an exclusion has no name but its place
          <div key={i} className="flex flex-wrap items-center gap-2">
            <Choose
              label={`Signal of ${name}`}
              value={one.signal ?? ""}
              any="every signal"
              choices={of(cases.map((other) => other.signal))}
              className="w-44"
              onChange={(value) => put({ signal: value || null })}
            />
            <Choose
              label={`Setting of ${name}`}
              value={one.setting ?? ""}
              any="every setting"
              choices={of(cases.map((other) => other.setting))}
              className="w-40"
              onChange={(value) => put({ setting: value || null })}
            />
            <Choose
              label={`Host of ${name}`}
              value={one.host ?? ""}
              any="every host"
              choices={of(conditions.map((other) => other.host))}
              onChange={(value) => put({ host: value || null })}
            />
            <Choose
              label={`Mode of ${name}`}
              value={one.mode ?? ""}
              any="every mode"
              choices={["real time", "offline"]}
              onChange={(value) => put({ mode: value === "real time" || value === "offline" ? value : null })}
            />
            <Choose
              label={`Rate of ${name}`}
              value={one.rate === null ? "" : `${kilohertz(one.rate)} kHz`}
              any="every rate"
              choices={rates.map((rate) => `${kilohertz(rate)} kHz`)}
              onChange={(value) =>
                put({ rate: rates.find((rate) => `${kilohertz(rate)} kHz` === value) ?? null })
              }
            />
            <Quietly onClick={() => onChange(changed(exclude, i, undefined))}>remove</Quietly>
          </div>
        );
      })}
      <div>
        <Button
          small
          onClick={() =>
            onChange([...exclude, { ...NOTHING, host: conditions[0]?.host ?? null, rate: rates[0] ?? null }])
          }
        >
          Exclude a combination
        </Button>
      </div>
    </div>
  );
}
