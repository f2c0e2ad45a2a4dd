/** The stretch of frames that is shown: start ≤ frame < stop. */
export interface View {
  start: number;
  stop: number;
}

const FEWEST = 8;

/** A view held inside the file, and no narrower than a few samples. */
export function held(view: View, frames: number): View {
  const width = Math.min(Math.max(Math.round(view.stop - view.start), Math.min(FEWEST, frames)), frames);
  const start = Math.min(Math.max(Math.round(view.start), 0), frames - width);
  return { start, stop: start + width };
}

/** Wider (factor > 1) or narrower about a frame that keeps its place. */
export function zoomed(view: View, factor: number, about: number, frames: number): View {
  return held(
    { start: about - (about - view.start) * factor, stop: about + (view.stop - about) * factor },
    frames,
  );
}

export function moved(view: View, share: number, frames: number): View {
  const by = (view.stop - view.start) * share;
  return held({ start: view.start + by, stop: view.stop + by }, frames);
}

/** Around a frame, as many as are drawn as single samples. */
export const single = (frame: number, frames: number): View =>
  held({ start: frame - 40, stop: frame + 40 }, frames);

export const middle = (view: View): number => (view.start + view.stop) / 2;
