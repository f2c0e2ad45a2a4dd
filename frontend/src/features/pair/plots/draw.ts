import type { Strip } from "../../../api/client";
import type { View } from "../view";

export type Ink = "reference" | "render" | "difference";
export const INKS: readonly Ink[] = ["reference", "render", "difference"];

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

/** A waveform on its strip. Reference is filled, render is hatched one way, the difference both ways. */
export function drawStrip(
  canvas: HTMLCanvasElement,
  strip: Strip | undefined,
  view: View,
  ink: Ink,
  decibels: number,
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
  const scale = 10 ** (decibels / 20);
  const toX = (frame: number) => ((frame - view.start) / (view.stop - view.start)) * width;
  for (let lane = 0; lane < lanes; lane++) {
    const centre = (height * (lane + 0.5)) / lanes;
    const half = (height / lanes) * 0.47;
    const toY = (value: number) => centre - Math.max(-1, Math.min(1, value * scale)) * half;
    pen.fillStyle = pen.strokeStyle = colour;
    pen.globalAlpha = 0.35;
    pen.fillRect(0, centre - 0.5, width, 1);
    pen.globalAlpha = 1;
    if (!strip) continue;
    if (strip.curve_points > 0) drawSamples(pen, strip, lane, ink, toX, toY);
    else drawColumns(pen, strip, lane, ink, toX, toY);
  }
}

type Scale = (value: number) => number;

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
    pen.lineTo(x + height, height);
    if (ink === "difference") {
      pen.moveTo(x, height);
      pen.lineTo(x + height, 0);
    }
  }
  pen.stroke();
  pen.restore();
}

const DASHES: Record<Ink, number[]> = { reference: [], render: [6, 3], difference: [2, 2] };

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
    else {
      pen.moveTo(x, y - 3.8);
      pen.lineTo(x + 3.8, y);
      pen.lineTo(x, y + 3.8);
      pen.lineTo(x - 3.8, y);
    }
    pen.fill();
  }
}
