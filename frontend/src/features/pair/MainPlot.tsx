import { useState } from "react";
import type { Pair } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { useKeys } from "../../ui/keys";
import { Tabs } from "../../ui/Tabs";
import type { Player } from "./player/player";
import { CurveStack } from "./plots/CurveStack";
import { EVEN, type Ruler } from "./plots/draw";
import { Folds } from "./plots/Folds";
import { CURVES, PLOTS, type PlotName } from "./plots/kinds";
import { MapPlot } from "./plots/MapPlot";
import { SpectrumPlot } from "./plots/SpectrumPlot";
import { StepTable } from "./plots/StepTable";
import { Strips } from "./plots/Strips";
import { SweepMap } from "./plots/SweepMap";
import type { View } from "./view";

/** What all that is drawn of a pair over time hangs on. */
export interface Props {
  pair: Pair;
  frames: number;
  rate: number;
  view: View;
  player: Player | undefined;
  onView: (view: View) => void;
}

/** One large plot, with the others a key away. */
export function MainPlot(
  props: Props & { names: PlotName[]; chosen: PlotName; onChoose: (name: PlotName) => void },
) {
  const { names, chosen, onChoose, ...rest } = props;
  useKeys(Object.fromEntries(names.map((name) => [PLOTS[name].key, () => onChoose(name)])));
  return (
    <section aria-label={PLOTS[chosen].title} className="flex flex-1 flex-col">
      <Tabs
        name="Plots"
        tabs={names.map((value) => ({ value, label: PLOTS[value].title, hint: PLOTS[value].key }))}
        value={chosen}
        onChoose={onChoose}
        className="flex-1"
        listClassName="pl-[7.5rem] mb-2"
      >
        <Drawn key={chosen} name={chosen} {...rest} />
      </Tabs>
    </section>
  );
}

function Drawn({ name, ...props }: Props & { name: PlotName }) {
  const { pair, rate, frames, view, player, onView } = props;
  if (name === "waveform") return <Waveform {...props} />;
  if (name === "spectrum") return <SpectrumPlot pair={pair} frames={frames} rate={rate} view={view} />;
  if (name === "map") return <MapPlot pair={pair} rate={rate} view={view} player={player} onView={onView} />;
  if (name === "lines") return <Folds pair={pair} rate={rate} />;
  return (
    <>
      {name === "aliases" && <SweepMap curves={pair.curves} rate={rate} />}
      <CurveStack curves={pair.curves} rows={CURVES[name] ?? []} rate={rate} />
      {name === "transfer" && <StepTable curves={pair.curves} />}
    </>
  );
}

function Waveform(props: Props) {
  const [ruler, setRuler] = useState<Ruler>(EVEN);
  const channels = (props.pair.reference ?? props.pair.render)?.channels ?? 1;
  return (
    <>
      <div className="flex gap-4 pl-[7.5rem] text-xs text-quiet">
        <Check
          label="levels in dBFS"
          checked={ruler.scale === "decibels"}
          onChange={(on) => setRuler({ ...ruler, scale: on ? "decibels" : "even" })}
        />
        {channels > 1 && (
          <Check
            label="Overlay channels"
            checked={ruler.over}
            onChange={(over) => setRuler({ ...ruler, over })}
          />
        )}
      </div>
      <Strips {...props} of="Waveform" ruler={ruler} />
    </>
  );
}
