import { BASE } from "../../../api/base";
import { problemFrom } from "../../../api/client";
import { openSound } from "../../../ui/sound";
import { INKS, type Ink } from "../plots/draw";
import type { View } from "../view";

const PIECE_SECONDS = 0.5;
const AHEAD_SECONDS = 1.5;
const SWITCH_SECONDS = 0.008; // a ramp this short is no click and no fade
const KEPT_PIECES = 120;
const SHORTEST_LOOP_SECONDS = 0.03;

export interface PlayerSource {
  /** Of the sides that there are. */
  addresses: Record<Ink, string | undefined>;
  rate: number;
  channels: number;
  frames: number;
}

/**
 * Plays three sides in sync, all the time, and lets one through: switching is a ramp of a gain, never a restart.
 * Samples are fetched piece by piece, ahead of the playing position.
 */
export class Player {
  onChange: () => void = () => {};
  playing = false;
  error: string | undefined;
  private context: AudioContext | undefined;
  private gains = new Map<Ink, GainNode>();
  private pieces = new Map<string, Promise<Float32Array>>();
  private nodes = new Set<AudioBufferSourceNode>();
  private timer: number | undefined;
  private side: Ink = "reference";
  private differenceGain = 0;
  private range: View;
  private loop = false;
  private next = 0; // frame that is scheduled next
  private due = 0; // context time at which it sounds
  private marks: { at: number; frame: number }[] = [];
  private filling = false;
  private turn = 0;

  private readonly inks: Ink[];

  constructor(private readonly source: PlayerSource) {
    this.range = { start: 0, stop: source.frames };
    this.inks = INKS.filter((ink) => source.addresses[ink] !== undefined);
  }

  listenTo(side: Ink): void {
    this.side = side;
    this.balance();
  }

  setDifferenceGain(decibels: number): void {
    this.differenceGain = decibels;
    this.balance();
  }

  setRange(range: View, loop: boolean): void {
    this.range = range;
    this.loop = loop;
  }

  async play(from: number): Promise<void> {
    this.stop();
    this.error = undefined;
    const context = this.open();
    await context.resume();
    this.next = Math.floor(from);
    this.due = context.currentTime + 0.06;
    this.marks = [];
    this.playing = true;
    this.onChange();
    this.timer = window.setInterval(() => void this.fill(), 100);
    await this.fill();
  }

  stop(): void {
    this.turn++;
    window.clearInterval(this.timer);
    for (const node of this.nodes) node.stop();
    this.nodes.clear();
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

  /** Frame that is heard now. */
  position(): number | undefined {
    if (!this.playing || !this.context) return undefined;
    const now = this.context.currentTime;
    const mark = this.marks.findLast((one) => one.at <= now);
    return mark && mark.frame + (now - mark.at) * this.source.rate;
  }

  private open(): AudioContext {
    if (this.context) return this.context;
    const context = openSound(this.source.rate);
    for (const ink of this.inks) {
      const gain = context.createGain();
      gain.connect(context.destination);
      this.gains.set(ink, gain);
    }
    this.context = context;
    this.balance(0);
    return context;
  }

  private balance(seconds = SWITCH_SECONDS): void {
    const now = this.context?.currentTime ?? 0;
    for (const [ink, { gain }] of this.gains) {
      const loud = ink === "difference" ? 10 ** (this.differenceGain / 20) : 1;
      gain.cancelScheduledValues(now);
      gain.setValueAtTime(gain.value, now);
      gain.linearRampToValueAtTime(ink === this.side ? loud : 0, now + seconds);
    }
  }

  private async fill(): Promise<void> {
    if (this.filling || !this.context || !this.playing) return;
    this.filling = true;
    const turn = this.turn;
    try {
      while (this.playing && turn === this.turn && this.due < this.context.currentTime + AHEAD_SECONDS) {
        if (!this.wrap()) break;
        await this.schedule(turn);
      }
    } catch (error) {
      this.error = error instanceof Error ? error.message : "The audio could not be loaded.";
      this.stop();
    } finally {
      this.filling = false;
    }
  }

  /** Back to the start of the loop; false when there is nothing more to play. */
  private wrap(): boolean {
    const { start, stop } = this.stretch();
    const loops = this.loop && stop - start >= SHORTEST_LOOP_SECONDS * this.source.rate;
    if (loops && (this.next >= stop || this.next < start)) this.next = start;
    if (this.next < stop) return true;
    if (this.context && this.context.currentTime > this.due) this.stop();
    return false;
  }

  /** The stretch that is played; a loop is never shorter than what can be heard, and scheduled without end. */
  private stretch(): View {
    const { frames, rate } = this.source;
    const shortest = Math.ceil(SHORTEST_LOOP_SECONDS * rate);
    if (!this.loop || frames < shortest) return { start: 0, stop: frames };
    const start = Math.max(0, Math.min(Math.floor(this.range.start), frames - shortest));
    return { start, stop: Math.min(frames, Math.max(Math.ceil(this.range.stop), start + shortest)) };
  }

  private async schedule(turn: number): Promise<void> {
    const { rate, channels } = this.source;
    const size = Math.round(PIECE_SECONDS * rate);
    const index = Math.floor(this.next / size);
    const pieces = await Promise.all(this.inks.map((ink) => this.piece(ink, index, size)));
    const context = this.context;
    if (!context || turn !== this.turn) return;
    const begin = this.next - index * size;
    const length = Math.min(size, this.stretch().stop - index * size) - begin;
    // The range may have changed while the samples were on their way; the next turn starts at its new place.
    if (length <= 0) return;
    // A loading pause must not play late pieces on top of each other.
    this.due = Math.max(this.due, context.currentTime + 0.02);
    for (const [i, ink] of this.inks.entries()) {
      const data = pieces[i];
      const gain = this.gains.get(ink);
      if (!data || !gain) continue;
      const buffer = context.createBuffer(channels, length, rate);
      for (let channel = 0; channel < channels; channel++) {
        const out = buffer.getChannelData(channel);
        for (let k = 0; k < length; k++) out[k] = data[(begin + k) * channels + channel] ?? 0;
      }
      const node = context.createBufferSource();
      node.buffer = buffer;
      node.connect(gain);
      node.onended = () => this.nodes.delete(node);
      node.start(this.due);
      this.nodes.add(node);
    }
    this.marks.push({ at: this.due, frame: this.next });
    if (this.marks.length > 64) this.marks.shift();
    this.next += length;
    this.due += length / rate;
  }

  private piece(ink: Ink, index: number, size: number): Promise<Float32Array> {
    const start = index * size;
    const stop = Math.min(start + size, this.source.frames);
    const url = `${BASE}/api/audio/${this.source.addresses[ink]}/samples?start=${start}&stop=${stop}`;
    const kept = this.pieces.get(url);
    if (kept) return kept;
    const fetched = fetchSamples(url);
    fetched.catch(() => this.pieces.delete(url));
    this.pieces.set(url, fetched);
    const [oldest] = this.pieces.keys();
    if (this.pieces.size > KEPT_PIECES && oldest) this.pieces.delete(oldest);
    return fetched;
  }
}

async function fetchSamples(url: string): Promise<Float32Array> {
  const response = await fetch(url);
  if (!response.ok) throw problemFrom(response.status, await response.json().catch(() => null));
  return new Float32Array(await response.arrayBuffer());
}
