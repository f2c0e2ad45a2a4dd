import { openSound } from "../../ui/sound";

const SWITCH_SECONDS = 0.008; // a ramp this short is no click and no fade
const FADE_SECONDS = 0.03; // on every start, for ears
const AHEAD_SECONDS = 0.05;

/** Which of two channels go where: rows are what comes out, columns what goes in. */
export const ROUTES = {
  both: [1, 0, 0, 1],
  first: [1, 0, 1, 0],
  second: [0, 1, 0, 1],
  middle: [0.5, 0.5, 0.5, 0.5],
  sides: [0.5, -0.5, -0.5, 0.5],
  swapped: [0, 1, 1, 0],
} as const;
export type Route = keyof typeof ROUTES;

/** Samples of a loop, channels interleaved. */
export type Clip = Float32Array;

/**
 * Plays several loops of one length in sync, all the time, and lets one through: switching is a ramp of a gain and
 * never a restart.
 */
export class Looper {
  onChange: () => void = () => {};
  playing = false;
  error: string | undefined;
  private context: AudioContext | undefined;
  private nodes: AudioBufferSourceNode[] = [];
  private gains: GainNode[] = [];
  private cells: GainNode[] = [];
  private master: GainNode | undefined;
  private clips: Clip[] = [];
  private levels: number[] = []; // dB
  private heard = 0;
  private route: Route = "both";
  private began = 0;

  constructor(
    readonly rate: number,
    readonly channels: number,
  ) {}

  get frames(): number {
    return (this.clips[0]?.length ?? 0) / this.channels;
  }

  /** Other clips; what plays goes on with them from the start. */
  setClips(clips: Clip[]): void {
    const went = this.playing;
    this.stop();
    this.clips = clips;
    if (went) void this.play();
  }

  listenTo(side: number): void {
    this.heard = side;
    this.balance();
  }

  /** dB of each side. */
  setGains(levels: number[]): void {
    this.levels = levels;
    this.balance();
  }

  setRoute(route: Route): void {
    this.route = route;
    const now = this.context?.currentTime ?? 0;
    for (const [i, cell] of this.cells.entries()) ramp(cell.gain, ROUTES[route][i] ?? 0, now, SWITCH_SECONDS);
  }

  async play(): Promise<void> {
    this.stop();
    this.error = undefined;
    try {
      this.context ??= openSound(this.rate);
      const { context } = this;
      await context.resume();
      this.began = context.currentTime + AHEAD_SECONDS;
      this.build(context);
      this.playing = true;
    } catch (error) {
      this.error = error instanceof Error ? error.message : "The sound device could not be opened.";
    }
    this.onChange();
  }

  stop(): void {
    for (const node of this.nodes) node.stop();
    for (const node of [...this.nodes, ...this.gains, ...this.cells]) node.disconnect();
    this.master?.disconnect();
    this.nodes = [];
    this.gains = [];
    this.cells = [];
    if (this.playing) {
      this.playing = false;
      this.onChange();
    }
  }

  close(): void {
    this.stop();
    void this.context?.close();
    this.context = undefined;
  }

  /** Share of the loop that has been heard, 0 to 1. */
  position(): number | undefined {
    if (!this.playing || !this.context || this.frames === 0) return undefined;
    const seconds = this.frames / this.rate;
    return ((((this.context.currentTime - this.began) % seconds) + seconds) % seconds) / seconds;
  }

  private build(context: AudioContext): void {
    const master = context.createGain();
    master.gain.setValueAtTime(0, this.began);
    master.gain.linearRampToValueAtTime(1, this.began + FADE_SECONDS);
    master.connect(context.destination);
    this.master = master;
    const into = this.channels === 2 ? this.matrix(context, master) : master;
    for (const [i, clip] of this.clips.entries()) {
      const buffer = context.createBuffer(this.channels, Math.max(1, this.frames), this.rate);
      for (let channel = 0; channel < this.channels; channel++) {
        const out = buffer.getChannelData(channel);
        for (let k = 0; k < out.length; k++) out[k] = clip[k * this.channels + channel] ?? 0;
      }
      const node = context.createBufferSource();
      node.buffer = buffer;
      node.loop = true;
      const gain = context.createGain();
      gain.gain.setValueAtTime(i === this.heard ? factor(this.levels[i]) : 0, 0);
      node.connect(gain);
      gain.connect(into);
      node.start(this.began);
      this.nodes.push(node);
      this.gains.push(gain);
    }
  }

  /** Four gains between two channels in and two out. */
  private matrix(context: AudioContext, out: AudioNode): AudioNode {
    const split = context.createChannelSplitter(2);
    const merge = context.createChannelMerger(2);
    for (const [i, value] of ROUTES[this.route].entries()) {
      const cell = context.createGain();
      cell.gain.setValueAtTime(value, 0);
      split.connect(cell, i % 2);
      cell.connect(merge, 0, Math.floor(i / 2));
      this.cells.push(cell);
    }
    merge.connect(out);
    return split;
  }

  private balance(): void {
    const now = this.context?.currentTime ?? 0;
    for (const [i, { gain }] of this.gains.entries())
      ramp(gain, i === this.heard ? factor(this.levels[i]) : 0, now, SWITCH_SECONDS);
  }
}

const factor = (decibels = 0) => 10 ** (decibels / 20);

function ramp(parameter: AudioParam, to: number, now: number, seconds: number) {
  parameter.cancelScheduledValues(now);
  parameter.setValueAtTime(parameter.value, now);
  parameter.linearRampToValueAtTime(to, now + seconds);
}
