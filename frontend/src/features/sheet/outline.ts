const RANGE = 60; // dB under the greatest, down to which a picture shows anything
const LEAST = 8; // % of the height: what is there at all is seen

/** Ink as high as the level in each part of the time, the greatest over all of its height: a shape to cut it to. */
export function outline(levels: readonly number[]): string {
  const most = Math.max(...levels);
  const points = levels.flatMap((level, i) => {
    const share = Math.max(0, 1 + (level - most) / RANGE);
    const top = `${(100 - (share > 0 ? Math.max(LEAST, 100 * share) : 0)).toFixed(1)}%`;
    const at = (x: number) => `${((100 * x) / levels.length).toFixed(2)}% ${top}`;
    return [at(i), at(i + 1)];
  });
  return `polygon(0% 100%, ${points.join(", ")}, 100% 100%)`;
}
