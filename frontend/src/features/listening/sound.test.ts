import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";

vi.mock("../../api/base", () => ({ BASE: "" }));

import { openSound } from "../../ui/sound";
import { Player, type PlayerSource } from "../pair/player/player";
import { Looper, ROUTES } from "./looper";

const RATE = 1000;

/** A parameter that remembers the ramps it was given. */
class FakeParameter {
  value = 1;
  ramps: { to: number; at: number }[] = [];
  setValueAtTime(value: number) {
    this.value = value;
  }
  linearRampToValueAtTime(to: number, at: number) {
    this.ramps.push({ to, at });
    this.value = to;
  }
  cancelScheduledValues() {}
}

class FakeNode {
  gain = new FakeParameter();
  buffer: { channels: Float32Array[] } | undefined;
  loop = false;
  started: number | undefined;
  stopped = false;
  outputs: { node: FakeNode; from: number; into: number }[] = [];
  connect(node: FakeNode, from = 0, into = 0) {
    this.outputs.push({ node, from, into });
  }
  disconnect() {
    this.outputs = [];
  }
  start(at: number) {
    this.started = at;
  }
  stop() {
    this.stopped = true;
  }
}

/** A sound device whose clock stands where a test puts it. */
class FakeDevice {
  static last: FakeDevice;
  static refused = 0;
  currentTime = 10;
  destination = new FakeNode();
  sources: FakeNode[] = [];
  gains: FakeNode[] = [];
  closed = false;
  readonly sampleRate: number;
  constructor(options?: { sampleRate: number }) {
    if (options && options.sampleRate === FakeDevice.refused) throw new Error("not this rate");
    this.sampleRate = options?.sampleRate ?? 48000;
    FakeDevice.last = this;
  }
  async resume() {}
  async close() {
    this.closed = true;
  }
  createGain() {
    const made = new FakeNode();
    this.gains.push(made);
    return made;
  }
  createBufferSource() {
    const made = new FakeNode();
    this.sources.push(made);
    return made;
  }
  createBuffer(channels: number, length: number) {
    const made = Array.from({ length: channels }, () => new Float32Array(length));
    return { channels: made, getChannelData: (channel: number) => made[channel] };
  }
  createChannelSplitter = () => new FakeNode();
  createChannelMerger = () => new FakeNode();
}

const settled = () => vi.advanceTimersByTimeAsync(0);
const device = () => FakeDevice.last;

beforeEach(() => {
  vi.useFakeTimers();
  FakeDevice.refused = 0;
  vi.stubGlobal("AudioContext", FakeDevice);
  vi.stubGlobal("window", globalThis);
});

afterEach(() => {
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

test("a rate that the device refuses is left to the browser", () => {
  expect(openSound(RATE).sampleRate).toBe(RATE);
  FakeDevice.refused = 768_000;
  expect(openSound(768_000).sampleRate).toBe(48_000);
});

describe("loops in sync", () => {
  const clips = [new Float32Array([1, 2, 3, 4]), new Float32Array([5, 6, 7, 8])];

  test("all begin at one time and one is let through, at its level", async () => {
    const looper = new Looper(RATE, 1);
    looper.setClips(clips);
    looper.setGains([0, -6]);
    looper.listenTo(1);
    await looper.play();
    const { sources } = device();
    expect(sources.map((one) => one.started)).toEqual([10.05, 10.05]);
    expect(sources.every((one) => one.loop)).toBe(true);
    expect(sources.map((one) => one.outputs[0]?.node.gain.value)).toEqual([0, 10 ** (-6 / 20)]);
    expect([...(sources[0]?.buffer?.channels[0] ?? [])]).toEqual([1, 2, 3, 4]);
  });

  test("switching is a ramp of gains, and nothing begins again", async () => {
    const looper = new Looper(RATE, 1);
    looper.setClips(clips);
    await looper.play();
    device().currentTime = 11;
    looper.listenTo(1);
    const gains = device().sources.map((one) => one.outputs[0]?.node.gain);
    expect(gains.map((gain) => gain?.ramps.at(-1))).toEqual([
      { to: 0, at: 11.008 },
      { to: 1, at: 11.008 },
    ]);
    expect(device().sources).toHaveLength(2);
    expect(device().sources.some((one) => one.stopped)).toBe(false);
  });

  test("the share that has been heard goes round, and is none before it plays", async () => {
    const looper = new Looper(RATE, 1);
    expect(looper.position()).toBeUndefined();
    looper.setClips([new Float32Array(RATE)]);
    await looper.play();
    device().currentTime = 10.05 + 0.25;
    expect(looper.position()).toBeCloseTo(0.25);
    device().currentTime = 10.05 + 3.75;
    expect(looper.position()).toBeCloseTo(0.75);
    looper.stop();
    expect(looper.position()).toBeUndefined();
  });

  test("channels are parted, and go where the route says", async () => {
    const looper = new Looper(RATE, 2);
    looper.setRoute("swapped");
    looper.setClips([new Float32Array([1, -1, 2, -2])]);
    await looper.play();
    expect(looper.frames).toBe(2);
    const [source] = device().sources;
    expect(source?.buffer?.channels.map((one) => [...one])).toEqual([
      [1, 2],
      [-1, -2],
    ]);
    const cells = device().gains.slice(1, 5);
    expect(cells.map((cell) => cell.gain.value)).toEqual([...ROUTES.swapped]);
    looper.setRoute("middle");
    expect(cells.map((cell) => cell.gain.ramps.at(-1)?.to)).toEqual([...ROUTES.middle]);
  });

  test("other clips go on where one played, and wait where none did", async () => {
    const looper = new Looper(RATE, 1);
    looper.setClips(clips);
    expect(looper.playing).toBe(false);
    await looper.play();
    const before = device().sources.length;
    looper.setClips([new Float32Array(8)]);
    await settled();
    expect(
      device()
        .sources.slice(0, before)
        .every((one) => one.stopped),
    ).toBe(true);
    expect(looper.playing).toBe(true);
    looper.close();
    expect(device().closed).toBe(true);
  });

  test("a device that cannot be opened is told, not thrown", async () => {
    vi.stubGlobal(
      "AudioContext",
      class {
        constructor() {
          throw new Error("no device");
        }
      },
    );
    const looper = new Looper(RATE, 1);
    looper.setClips(clips);
    await looper.play();
    expect([looper.playing, looper.error]).toEqual([false, "no device"]);
  });
});

describe("a file that is fetched while it plays", () => {
  const source: PlayerSource = {
    addresses: { reference: "aa", render: "bb", difference: undefined, signal: undefined },
    rate: RATE,
    channels: 1,
    frames: 1700,
  };
  const asked: string[] = [];

  /** Samples that count the frames. */
  const counting = async (url: string) => {
    asked.push(url);
    const [, start, stop] = /start=(\d+)&stop=(\d+)/.exec(url)?.map(Number) ?? [];
    const samples = Float32Array.from({ length: (stop ?? 0) - (start ?? 0) }, (_, k) => (start ?? 0) + k);
    return { ok: true, arrayBuffer: async () => samples.buffer };
  };
  const heard = (side: number) =>
    device()
      .sources.filter((_, i) => i % 2 === side)
      .map((one) => ({ at: one.started ?? 0, samples: [...(one.buffer?.channels[0] ?? [])] }));

  beforeEach(() => {
    asked.length = 0;
    vi.stubGlobal("fetch", counting);
  });

  test("pieces follow each other without a gap, from the frame asked for to the last", async () => {
    const player = new Player(source);
    await player.play(250);
    device().currentTime = 11;
    await vi.advanceTimersByTimeAsync(100);
    const pieces = heard(0);
    expect(pieces.flatMap((one) => one.samples)).toEqual(Array.from({ length: 1450 }, (_, k) => 250 + k));
    for (const [i, piece] of pieces.entries()) {
      const before = pieces[i - 1];
      if (before) expect(piece.at).toBeCloseTo(before.at + before.samples.length / RATE);
    }
    expect(heard(1).map((one) => one.at)).toEqual(pieces.map((one) => one.at));
    device().currentTime = 10.06 + 0.5;
    expect(player.position()).toBeCloseTo(750);
  });

  test("it ends by itself after the last frame", async () => {
    const player = new Player(source);
    await player.play(1600);
    device().currentTime = 10.5;
    await vi.advanceTimersByTimeAsync(100);
    expect(player.playing).toBe(false);
  });

  test("a loop comes round to its first frame, and each piece is fetched once", async () => {
    const player = new Player(source);
    player.setRange({ start: 100, stop: 200 }, true);
    await player.play(100);
    const first = heard(0).map((one) => one.samples[0]);
    expect(first.length).toBeGreaterThan(10);
    expect(new Set(first)).toEqual(new Set([100]));
    expect(heard(0).every((one) => one.samples.length === 100)).toBe(true);
    expect(asked).toHaveLength(2);
    player.stop();
  });

  test("a loop of single samples is no shorter than can be scheduled", async () => {
    const player = new Player(source);
    player.setRange({ start: 1695, stop: 1696 }, true);
    await player.play(1695);
    expect(new Set(heard(0).flatMap((one) => one.samples.length))).toEqual(new Set([5, 30]));
    player.stop();
  });

  test("switching ramps the gains; the difference is raised by its own", async () => {
    const all = { ...source, addresses: { ...source.addresses, difference: "cc" } };
    const player = new Player(all);
    await player.play(0);
    player.setDifferenceGain(40);
    player.listenTo("difference");
    expect(device().gains.map((one) => one.gain.ramps.at(-1)?.to)).toEqual([0, 0, 100]);
    player.listenTo("render");
    expect(device().gains.map((one) => one.gain.ramps.at(-1)?.to)).toEqual([0, 1, 0]);
    player.close();
    expect(device().closed).toBe(true);
  });

  test("what cannot be fetched ends it with the server's sentence, and is asked for again", async () => {
    const refusal = {
      ok: false,
      status: 410,
      json: async () => ({ title: "Gone", detail: "It was dropped." }),
    };
    vi.stubGlobal("fetch", async () => refusal);
    const player = new Player(source);
    await player.play(0);
    expect([player.playing, player.error]).toEqual([false, "It was dropped."]);
    vi.stubGlobal("fetch", counting);
    await player.play(0);
    expect(player.error).toBeUndefined();
    expect(asked.length).toBeGreaterThan(0);
    player.stop();
  });
});
