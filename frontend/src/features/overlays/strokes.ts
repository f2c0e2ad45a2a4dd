/** Strokes that tell lines apart, in the order in which they are given out. */
const STROKES: readonly number[][] = [
  [],
  [7, 4],
  [2, 3],
  [9, 3, 2, 3],
  [14, 4],
  [1, 6],
  [8, 2, 1, 2, 1, 2],
  [4, 2],
];

export const REFERENCE_WIDTH = 3;
export const WIDTH = 1.5;
const PALEST = 0.3;

/** The stroke of the nth line that is not the reference. */
export const strokeOf = (turn: number): number[] => [...(STROKES[turn % STROKES.length] ?? [])];

/** How dark the nth of some lines in time is: the oldest palest. */
export const darkness = (turn: number, count: number): number =>
  PALEST + ((1 - PALEST) * (turn + 1)) / Math.max(1, count);
