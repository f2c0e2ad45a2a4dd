import { useEffect, useMemo, useState } from "react";
import type { Pair } from "../../../api/client";
import { Button } from "../../../ui/controls";
import { useKeys } from "../../../ui/keys";
import { count, day } from "../../../ui/numbers";
import { ToggleGroup, ToggleItem } from "../../../ui/ToggleGroup";
import type { Needled } from "../../needles/Needles";
import { INKS, type Ink } from "../plots/draw";
import type { View } from "../view";
import { Player } from "./player";

const NAMES: Record<Ink, string> = {
  reference: "Reference",
  render: "Render",
  difference: "Difference",
  signal: "Signal",
};
const CHOSEN: Record<Ink, string> = {
  reference: "bg-reference text-on-ink",
  render: "bg-render text-on-ink",
  difference: "bg-difference text-on-ink",
  signal: "bg-signal text-on-ink",
};
const NEEDLES = { reference: "bg-reference", render: "bg-render" };
const STEP = 6;
const MOST = 96;

/** A player for the sides that there are; undefined while there is none. */
export function usePlayer(pair: Pair): Player | undefined {
  const { reference, render, difference, signal } = pair;
  const player = useMemo(() => {
    const first = [reference, render].find((side) => heard(side) !== undefined);
    if (!first) return undefined;
    return new Player({
      addresses: {
        reference: heard(reference),
        render: heard(render),
        difference: heard(difference),
        signal: heard(signal),
      },
      rate: first.rate,
      channels: first.channels,
      frames: first.frames,
    });
  }, [reference, render, difference, signal]);
  useEffect(() => () => player?.close(), [player]);
  return player;
}

/** The address of a side that can be heard: audio that was dropped has a waveform alone. */
const heard = (side: Pair["render"]): string | undefined =>
  side === null || side.dropped_at !== null ? undefined : side.address;

/** The sides that have needles: those whose level means something. */
export const needled = (pair: Pair): Needled[] =>
  (["reference", "render"] as const).flatMap((ink) => {
    const address = heard(pair[ink]);
    return address ? [{ name: NAMES[ink], sounding: { address }, ink: NEEDLES[ink] }] : [];
  });

/** Why there is no second side. */
export function onlyOne({ reference, render }: Pair): string {
  const gone = [reference, render].find((side) => side?.dropped_at);
  if (gone?.dropped_at)
    return `The audio of ${gone.name} was dropped on ${day(gone.dropped_at)}; its readings are kept.`;
  return `There is no ${reference ? "render" : "reference"} to switch to.`;
}

/** The gain up to which the difference stays under full scale. */
function safest(pair: Pair): number {
  const peak = pair.readings.find((one) => one.measure === "residual_peak" && one.channel === "all")?.value;
  return peak == null ? 0 : Math.max(0, Math.min(MOST, Math.floor(-peak / STEP) * STEP));
}

export function PlayerBar({
  pair,
  player,
  view,
  frames,
  onSignal,
  onPlaying,
}: {
  pair: Pair;
  onPlaying: (playing: boolean) => void;
  /** The signal that went in is to be a side too. */
  onSignal: (on: boolean) => void;
  player: Player;
  view: View;
  frames: number;
}) {
  const there = INKS.filter((ink) => heard(pair[ink]) !== undefined);
  const [chosen, setSide] = useState<Ink>("reference");
  const side = there.includes(chosen) ? chosen : (there[0] ?? "reference");
  const [loop, setLoop] = useState(true);
  const most = safest(pair);
  const [gain, setGain] = useState(Math.max(0, most - STEP));
  const [, redraw] = useState(0);
  const { playing, error } = player;
  useEffect(() => {
    player.onChange = () => {
      redraw((n) => n + 1);
      onPlaying(player.playing);
    };
  }, [player, onPlaying]);
  useEffect(() => player.listenTo(side), [player, side]);
  useEffect(() => player.setDifferenceGain(gain), [player, gain]);
  useEffect(() => player.setRange(view, loop), [player, view, loop]);
  const toggle = () => (player.playing ? player.stop() : void player.play(view.start));
  const louder = (by: number) => setGain((now) => Math.min(most, Math.max(0, now + by)));
  useKeys({
    " ": toggle,
    "1": () => setSide("reference"),
    "2": () => setSide("render"),
    "3": () => setSide("difference"),
    "4": () => {
      onSignal(true);
      setSide("signal");
    },
    l: () => setLoop((on) => !on),
    "+": () => louder(STEP),
    "-": () => louder(-STEP),
  });
  const taken = pair.alignment?.shift ?? 0;
  return (
    <>
      <Button
        hint="space"
        onClick={toggle}
        aria-pressed={playing}
        className="w-22 justify-center px-2! xl:w-28"
      >
        {playing ? "Stop" : "Play"}
      </Button>
      <ToggleGroup
        name="Sides"
        value={side}
        onChoose={(to) => to && setSide(to)}
        className="flex overflow-hidden rounded-md border border-line"
      >
        {INKS.filter((ink) => ink !== "signal" || pair.signal !== null).map((ink, i) => (
          <ToggleItem
            key={ink}
            value={ink}
            disabled={!there.includes(ink)}
            className={`h-9 px-2 font-medium whitespace-nowrap xl:px-3 focus-visible:-outline-offset-2 disabled:cursor-not-allowed disabled:opacity-45 ${side === ink ? CHOSEN[ink] : "bg-sheet hover:bg-ground"}`}
          >
            {NAMES[ink]} <kbd className="ml-1 font-sans text-xs opacity-80">{i + 1}</kbd>
          </ToggleItem>
        ))}
      </ToggleGroup>
      <Button
        hint="L"
        aria-pressed={loop}
        onClick={() => setLoop(!loop)}
        className={loop ? "border-text" : ""}
      >
        {loop ? "Looping" : "Loop"}
      </Button>
      <fieldset className="flex items-center gap-1">
        <legend className="sr-only">Gain of the difference</legend>
        <Button
          aria-label="Difference quieter"
          onClick={() => louder(-STEP)}
          disabled={gain <= 0 || !there.includes("difference")}
          className="w-8 justify-center px-0!"
        >
          −
        </Button>
        <span className="w-[4.5rem] text-center text-xs xl:w-[6.5rem] leading-4 text-quiet">
          difference <b className="block text-sm text-text">+{gain} dB</b>
        </span>
        <Button
          aria-label="Difference louder"
          onClick={() => louder(STEP)}
          disabled={gain >= most || !there.includes("difference")}
          className="w-8 justify-center px-0!"
        >
          +
        </Button>
      </fieldset>
      <p role="status" className="hidden max-w-52 text-xs leading-4 text-quiet xl:block">
        {error ??
          (there.length < 2 ? `${onlyOne(pair)} ` : "") +
            `Levels as rendered, ${taken === 0 ? "no delay taken off" : `${count(taken, "sample")} taken off`}. ${view.stop - view.start < frames ? "Loops what is shown." : ""}`}
      </p>
    </>
  );
}
