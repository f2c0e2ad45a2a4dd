import type { Measure, PlanLimit } from "../../api/client";
import { limitText } from "../../ui/numbers";
import { Select } from "../../ui/Select";
import { NO_LIMIT } from "./document";
import { FIELD, NumberField, Quietly } from "./fields";

interface Props {
  of: string;
  limits: Record<string, PlanLimit>;
  measures: Measure[];
  onChange: (limits: Record<string, PlanLimit>) => void;
}

/** Limits that are not the usual ones, each with its reason. A measure with neither bound is not judged. */
export function Limits({ of, limits, measures, onChange }: Props) {
  const put = (key: string, limit: PlanLimit | undefined) => {
    const { [key]: _, ...rest } = limits;
    onChange(limit ? { ...limits, [key]: limit } : rest);
  };
  return (
    <div className="grid gap-1.5">
      {Object.entries(limits).map(([key, limit]) => {
        const measure = measures.find((one) => one.key === key);
        return (
          <div key={key} className="flex flex-wrap items-center gap-2">
            <span className="w-52 truncate" title={measure?.definition}>
              {measure?.title ?? key}
            </span>
            <span className="text-xs text-quiet">from</span>
            <NumberField
              label={`${measure?.title ?? key}, at least, ${of}`}
              value={limit.at_least}
              onChange={(at_least) => put(key, { ...limit, at_least })}
            />
            <span className="text-xs text-quiet">to</span>
            <NumberField
              label={`${measure?.title ?? key}, at most, ${of}`}
              value={limit.at_most}
              onChange={(at_most) => put(key, { ...limit, at_most })}
            />
            <span className="w-14 text-xs text-quiet">{measure?.unit}</span>
            <input
              aria-label={`Why ${measure?.title ?? key}, ${of}`}
              value={limit.because}
              placeholder={limit.at_least === null && limit.at_most === null ? "why it is not judged" : "why"}
              maxLength={400}
              onChange={(event) => put(key, { ...limit, because: event.target.value })}
              className={`${FIELD} min-w-40 flex-1`}
            />
            <Quietly onClick={() => put(key, undefined)}>as usual</Quietly>
          </div>
        );
      })}
      <Select
        name={`Add a limit, ${of}`}
        value=""
        choices={[
          { value: "", label: "Add a limit…" },
          ...measures
            .filter((one) => !(one.key in limits) && one.family !== "account")
            .map((one) => ({
              value: one.key,
              label: one.limit ? `${one.title}, usually ${limitText(one.limit, one)}` : one.title,
            })),
        ]}
        onChoose={(key) => key && put(key, { ...NO_LIMIT, ...boundsOf(measures, key) })}
        className={`${FIELD} w-52 text-quiet`}
      />
    </div>
  );
}

function boundsOf(measures: Measure[], key: string): Partial<PlanLimit> {
  const limit = measures.find((one) => one.key === key)?.limit;
  return { at_least: limit?.at_least ?? null, at_most: limit?.at_most ?? null };
}
