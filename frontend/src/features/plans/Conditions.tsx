import { useState } from "react";
import type { Host, Measure, PlanCondition, PlanDocument } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Button } from "../../ui/controls";
import { count, kilohertz } from "../../ui/numbers";
import { changed, newCondition, RATES } from "./document";
import { Choose, ListField, Quietly } from "./fields";
import { Limits } from "./Limits";

interface Props {
  document: PlanDocument;
  hosts: Host[];
  measures: Measure[];
  onChange: (conditions: PlanCondition[]) => void;
}

const WORDS: Record<string, PlanCondition["word_length"]> = {
  "32 bit float": "FLOAT",
  "64 bit float": "DOUBLE",
  "24 bit": "PCM_24",
  "16 bit": "PCM_16",
};
const MODES: PlanCondition["modes"] = ["real time", "offline"];
const HOSTING: PlanCondition["hosting"] = ["latency off", "by the clock"];

/** The columns of the sheet: versions of hosts, in which modes, at which rates and block sizes. */
export function Conditions({ document, hosts, measures, onChange }: Props) {
  const [open, setOpen] = useState<number>();
  const named = hosts.map((one) => `${one.name} ${one.version}`);
  return (
    <div className="grid gap-1.5">
      {document.conditions.map((one, i) => {
        const put = (change: Partial<PlanCondition>) =>
          onChange(changed(document.conditions, i, { ...one, ...change }));
        const host = hosts.find((other) => other.name === one.host && other.version === one.version);
        const of = `condition ${i + 1}`;
        const limits = Object.keys(one.limits).length;
        const toggled = <T,>(list: T[], all: T[], value: T, on: boolean) => {
          const next = all.filter((other) => (other === value ? on : list.includes(other)));
          return next.length > 0 ? next : list;
        };
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: a condition has no name but its place
          <div key={i} className="grid gap-1.5">
            <div className="flex flex-wrap items-center gap-x-2 gap-y-1.5 pl-8">
              <span className="-ml-8 w-6 text-right text-quiet">{i + 1}</span>
              <Choose
                label={`Host of ${of}`}
                value={`${one.host} ${one.version}`}
                choices={named}
                className="w-46"
                onChange={(name) => {
                  const wanted = hosts[named.indexOf(name)];
                  if (!wanted) return;
                  const modes = one.modes.filter((mode) => wanted.modes.includes(mode));
                  const kept = newCondition(wanted.name, wanted.version, wanted.modes);
                  put({
                    host: kept.host,
                    version: kept.version,
                    modes: modes.length > 0 ? modes : kept.modes,
                    hosting: one.hosting.filter((what) => wanted.hosting.includes(what)),
                  });
                }}
              />
              {MODES.filter((mode) => host?.modes.includes(mode) || one.modes.includes(mode)).map((mode) => (
                <Check
                  key={mode}
                  label={mode}
                  checked={one.modes.includes(mode)}
                  onChange={(on) => put({ modes: toggled(one.modes, MODES, mode, on) })}
                />
              ))}
              <span className="h-5 border-l border-line" />
              {[...new Set([...RATES, ...one.rates])]
                .sort((a, b) => a - b)
                .map((rate, _, all) => (
                  <Check
                    key={rate}
                    label={kilohertz(rate)}
                    checked={one.rates.includes(rate)}
                    onChange={(on) => put({ rates: toggled(one.rates, all, rate, on) })}
                  />
                ))}
              <span className="text-xs text-quiet">kHz</span>
            </div>
            <div className="flex flex-wrap items-center gap-2 pl-8">
              <ListField
                label={`Block sizes of ${of}`}
                values={one.blocks}
                placeholder="usual blocks"
                className="w-32"
                onChange={(values) => put({ blocks: values.map(Number).filter((size) => size >= 1) })}
              />
              <Choose
                label={`Channels of ${of}`}
                value={one.channels === 2 ? "two channels" : "one channel"}
                choices={["one channel", "two channels"]}
                onChange={(value) => put({ channels: value === "two channels" ? 2 : 1 })}
              />
              <Choose
                label={`Word length of ${of}`}
                value={Object.keys(WORDS).find((key) => WORDS[key] === one.word_length) ?? "32 bit float"}
                choices={Object.keys(WORDS)}
                onChange={(value) => put({ word_length: WORDS[value] ?? "FLOAT" })}
              />
              {HOSTING.filter((what) => host?.hosting.includes(what) || one.hosting.includes(what)).map(
                (what) => (
                  <Check
                    key={what}
                    label={what}
                    checked={one.hosting.includes(what)}
                    onChange={(on) =>
                      put({
                        hosting: HOSTING.filter((other) =>
                          other === what ? on : one.hosting.includes(other),
                        ),
                      })
                    }
                  />
                ),
              )}
              <Quietly onClick={() => setOpen(open === i ? undefined : i)}>
                {limits > 0 ? `${count(limits, "limit")} of its own` : "limits"}
              </Quietly>
              {document.conditions.length > 1 && (
                <Quietly onClick={() => onChange(changed(document.conditions, i, undefined))}>remove</Quietly>
              )}
            </div>
            {open === i && (
              <div className="mb-2 ml-8 border-l-2 border-line pl-3">
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
          disabled={hosts.length === 0}
          onClick={() => {
            const used = new Set(document.conditions.map((one) => `${one.host} ${one.version}`));
            const host = hosts.find((one) => !used.has(`${one.name} ${one.version}`)) ?? hosts[0];
            if (host) onChange([...document.conditions, newCondition(host.name, host.version, host.modes)]);
          }}
        >
          Add a condition
        </Button>
      </div>
    </div>
  );
}
