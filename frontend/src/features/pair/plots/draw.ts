import type { Strip } from "../../../api/client";
import type { View } from "../view";

/** The sides of a pair, and the signal that went in: a neutral beside the three inks. */
export type Ink = "reference" | "render" | "difference" | "signal";
export const INKS: readonly Ink[] = ["reference", "render", "difference", "signal"];

export const inkColour = (ink: Ink): string =>
  getComputedStyle(document.documentElement).getPropertyValue(`--${ink}`).trim();

/** Greatest magnitude of a strip, to choose how much it is magnified. */
export function greatest(strip: Strip | undefined): number {
  let most = 0;
  for (const values of strip ? [...strip.low, ...strip.high, ...strip.samples] : [])
    for (const value of values) most = Math.max(most, Math.abs(value));
  return most;
}

/** Decibels, in steps of 6, by which a peak may be raised and still fit. */
export function magnification(peak: number): number {
  if (peak <= 0) return 0;
  return Math.max(0, Math.floor((-20 * Math.log10(peak)) / 6) * 6);
}

/** How levels stand on a strip: evenly, or in decibels down to the lowest; channels apart, or laid over each other. */
export interface Ruler {
  scale: "even" | "decibels";
  over: boolean;
}
export const EVEN: Ruler = { scale: "even", over: false };
const LOWEST_DECIBELS = -72;
const LABELLED_HEIGHT = 56; // pixels of a lane under which its levels have no room
const LABELS_APART = 12; // pixels from one level to the next; half as many to the middle

/** Where a value stands between the middle, 0, and the edge, ±1. */
function placed(value: number, factor: number, ruler: Ruler): number {
  const raised = value * factor;
  if (ruler.scale === "even") return Math.max(-1, Math.min(1, raised));
  if (raised === 0) return 0;
  const level = 20 * Math.log10(Math.abs(raised));
  return Math.sign(raised) * Math.max(0, Math.min(1, 1 - level / LOWEST_DECIBELS));
}

/** A waveform on its strip. Reference is filled, render is hatched one way, the difference both ways. */
export function drawStrip(
  canvas: HTMLCanvasElement,
  strip: Strip | undefined,
  view: View,
  ink: Ink,
  decibels: number,
  ruler: Ruler = EVEN,
): void {
  const ratio = window.devicePixelRatio || 1;
  const width = canvas.clientWidth;
  const height = canvas.clientHeight;
  canvas.width = width * ratio;
  canvas.height = height * ratio;
  const pen = canvas.getContext("2d");
  if (!pen) return;
  pen.scale(ratio, ratio);
  const colour = inkColour(ink);
  const lanes = strip ? Math.max(strip.low.length, strip.samples.length) : 1;
  const factor = 10 ** (decibels / 20);
  const rows = ruler.over ? 1 : lanes;
  const toX = (frame: number) => ((frame - view.start) / (view.stop - view.start)) * width;
  for (let lane = 0; lane < lanes; lane++) {
    const centre = (height * ((ruler.over ? 0 : lane) + 0.5)) / rows;
    const half = (height / rows) * 0.47;
    const toY = (value: number) => centre - placed(value, factor, ruler) * half;
    pen.fillStyle = pen.strokeStyle = colour;
    pen.globalAlpha = 0.35;
    pen.fillRect(0, centre - 0.5, width, 1);
    pen.globalAlpha = 1;
    if (height / rows >= LABELLED_HEIGHT && (!ruler.over || lane === 0))
      drawLevels(pen, width, decibels, ruler, toY);
    pen.fillStyle = pen.strokeStyle = colour;
    if (!strip) continue;
    if (ruler.over && lane > 0) pen.globalAlpha = 0.55;
    if (strip.curve_points > 0) drawSamples(pen, strip, lane, ink, toX, toY);
    else drawColumns(pen, strip, lane, ink, toX, toY);
  }
}

type Scale = (value: number) => number;

/** Lines at round levels, with what they are at the right; on a strip that is magnified, of what is shown. */
function drawLevels(
  pen: CanvasRenderingContext2D,
  width: number,
  decibels: number,
  ruler: Ruler,
  toY: Scale,
) {
  const css = getComputedStyle(document.documentElement);
  const levels = ruler.scale === "even" ? [-6, -12, -24] : [-12, -36, -60];
  pen.font = "10px 'Commissioner Variable'";
  pen.textAlign = "right";
  pen.textBaseline = "middle";
  let last = Number.NEGATIVE_INFINITY;
  for (const level of levels.map((one) => one - decibels)) {
    const y = toY(10 ** (level / 20));
    if (y - last < LABELS_APART || toY(0) - y < LABELS_APART / 2) continue;
    last = y;
    pen.fillStyle = css.getPropertyValue("--line");
    pen.fillRect(0, y, width - 34, 1);
    pen.fillStyle = css.getPropertyValue("--quiet");
    pen.fillText(`−${Math.abs(level)}`, width - 4, y);
  }
}

function drawColumns(
  pen: CanvasRenderingContext2D,
  strip: Strip,
  lane: number,
  ink: Ink,
  toX: Scale,
  toY: Scale,
) {
  const low = strip.low[lane] ?? [];
  const high = strip.high[lane] ?? [];
  const per = (strip.stop - strip.start) / low.length;
  pen.beginPath();
  for (let i = 0; i < low.length; i++)
    pen.lineTo(toX(strip.start + (i + 0.5) * per), toY(high[i] ?? 0) - 0.5);
  for (let i = low.length - 1; i >= 0; i--)
    pen.lineTo(toX(strip.start + (i + 0.5) * per), toY(low[i] ?? 0) + 0.5);
  pen.closePath();
  pen.fill();
  hatch(pen, ink);
}

/** Lines of the ground through what was just filled, so that inks are told apart without colour. */
function hatch(pen: CanvasRenderingContext2D, ink: Ink) {
  if (ink === "reference") return;
  const { width, height } = pen.canvas;
  pen.save();
  pen.clip();
  pen.strokeStyle = getComputedStyle(document.documentElement).getPropertyValue("--ground");
  pen.globalAlpha = 0.55;
  pen.lineWidth = 1;
  pen.beginPath();
  for (let x = -height; x < width + height; x += 6) {
    pen.moveTo(x, 0);
    pen.lineTo(ink === "signal" ? x : x + height, height);
    if (ink === "difference") {
      pen.moveTo(x, height);
      pen.lineTo(x + height, 0);
    }
  }
  pen.stroke();
  pen.restore();
}

const DASHES: Record<Ink, number[]> = {
  reference: [],
  render: [6, 3],
  difference: [2, 2],
  signal: [8, 2, 2, 2],
};

function drawSamples(
  pen: CanvasRenderingContext2D,
  strip: Strip,
  lane: number,
  ink: Ink,
  toX: Scale,
  toY: Scale,
) {
  const curve = strip.curve[lane] ?? [];
  pen.lineWidth = 1.25;
  pen.setLineDash(DASHES[ink]);
  pen.beginPath();
  for (let i = 0; i < curve.length; i++)
    pen.lineTo(toX(strip.start + i / strip.curve_points + 0.5), toY(curve[i] ?? 0));
  pen.stroke();
  pen.setLineDash([]);
  for (const [i, value] of (strip.samples[lane] ?? []).entries()) {
    const x = toX(strip.start + i + 0.5);
    const y = toY(value);
    pen.beginPath();
    if (ink === "reference") pen.arc(x, y, 3, 0, 2 * Math.PI);
    else if (ink === "render") pen.rect(x - 2.7, y - 2.7, 5.4, 5.4);
    else if (ink === "signal") {
      pen.moveTo(x, y - 3.6);
      pen.lineTo(x + 3.4, y + 2.8);
      pen.lineTo(x - 3.4, y + 2.8);
    } else {
      pen.moveTo(x, y - 3.8);
      pen.lineTo(x + 3.8, y);
      pen.lineTo(x, y + 3.8);
      pen.lineTo(x - 3.8, y);
    }
    pen.fill();
  }
}
