import uPlot from "uplot";
import { inkColour } from "./draw";

/** uPlot wants a series: the axes are its own, and the rest is painted on them. */
export const empty = (rate: number): uPlot.AlignedData => [
  [0, rate / 2],
  [null, null],
];

export const bare = (size: { width: number; height: number }) => ({
  ...size,
  legend: { show: false },
  cursor: { show: false },
  series: [{}, { paths: () => null, points: { show: false } }],
});

/** Pixels from a point to its text, clear of marks. */
const BESIDE = 8;

export type Point = [number, number];

/** A colour of the theme that is on. */
export const token = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** Draws on a chart in its own units, whatever the density of the screen. */
export class Pen {
  readonly quiet = token("--quiet");
  private readonly ratio = uPlot.pxRatio;
  private readonly context: CanvasRenderingContext2D;

  constructor(private readonly plot: uPlot) {
    this.context = plot.ctx;
    this.context.font = `${11 * this.ratio}px 'Commissioner Variable'`;
    this.context.textBaseline = "middle";
  }

  place(x: number, y: number): Point {
    return [this.plot.valToPos(x, "x", true), this.plot.valToPos(y, "y", true)];
  }

  stroke(colour: string, width: number, points: Point[], dash: number[] = []) {
    const { context, ratio } = this;
    context.strokeStyle = colour;
    context.lineWidth = width * ratio;
    context.setLineDash(dash.map((one) => one * ratio));
    context.beginPath();
    for (const [x, y] of points) context.lineTo(x, y);
    context.stroke();
    context.setLineDash([]);
  }

  square(colour: string, [x, y]: Point) {
    const side = 7 * this.ratio;
    this.context.fillStyle = colour;
    this.context.fillRect(x - side / 2, y - side / 2, side, side);
  }

  disc(colour: string, [x, y]: Point, radius: number, filled: boolean, opacity = 1) {
    const { context, ratio } = this;
    context.globalAlpha = opacity;
    context.beginPath();
    context.arc(x, y, radius * ratio, 0, 2 * Math.PI);
    context.fillStyle = context.strokeStyle = colour;
    context.lineWidth = 1.25 * ratio;
    if (filled) context.fill();
    else context.stroke();
    context.globalAlpha = 1;
  }

  /** Beside a point, to its right. */
  text(text: string, [x, y]: Point) {
    this.context.fillStyle = this.quiet;
    this.context.textAlign = "left";
    this.context.fillText(text, x + BESIDE * this.ratio, y);
  }

  /** The level that the reference has. */
  tick([x, y]: Point) {
    const reach = 5.5 * this.ratio;
    this.stroke(inkColour("reference"), 2, [
      [x - reach, y],
      [x + reach, y],
    ]);
  }

  limit(level: number, text: string) {
    const { left, width } = this.plot.bbox;
    const [, y] = this.place(0, level);
    const ends: Point[] = [
      [left, y],
      [left + width, y],
    ];
    this.stroke(this.quiet, 1, ends, [2, 3]);
    const { context, ratio } = this;
    const long = context.measureText(text).width + 6 * ratio;
    // On a ground of its own, for lines may stand where it is.
    context.fillStyle = token("--ground");
    context.fillRect(left + width - long, y - 16 * ratio, long, 14 * ratio);
    context.fillStyle = this.quiet;
    context.textAlign = "right";
    context.fillText(text, left + width - 3 * ratio, y - 8 * ratio);
  }

  /** Texts beside their points, the first before the rest; one that would lie over another is left out. */
  labels(points: { at: Point; text: string }[], above = 0) {
    const { ratio } = this;
    const { left, width } = this.plot.bbox;
    const taken = points.map(
      ({ at: [x, y] }) => new DOMRect(x - 4 * ratio, y - 4 * ratio, 8 * ratio, 8 * ratio),
    );
    for (const { at: point, text } of points) {
      const at: Point = [point[0], point[1] - above * ratio];
      const long = this.context.measureText(text).width;
      const box = new DOMRect(at[0] + BESIDE * ratio, at[1] - 6 * ratio, long, 12 * ratio);
      if (taken.some((one) => meet(one, box)) || box.right > left + width + 14 * ratio) continue;
      taken.push(box);
      this.text(text, at);
    }
  }
}

const meet = (a: DOMRect, b: DOMRect) =>
  a.left <= b.right && b.left <= a.right && a.top <= b.bottom && b.top <= a.bottom;
