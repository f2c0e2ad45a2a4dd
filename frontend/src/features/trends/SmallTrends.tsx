import type { Measure, Sheet, TrendLine } from "../../api/client";
import { count } from "../../ui/numbers";
import { SmallTrend } from "./SmallTrend";

/** All conditions of a case beside each other, in one scale; a build at which a figure changed says by how much. */
export function SmallTrends({
  lines,
  builds,
  measure,
}: {
  lines: TrendLine[];
  builds: Sheet["siblings"];
  measure: Measure;
}) {
  const values = lines.flatMap((line) => line.points.flatMap((point) => point?.value ?? []));
  if (values.length === 0)
    return (
      <p className="border-t border-line px-5 py-4 text-quiet">
        No build has a reading of it here: where all is identical there is no residual, and nothing to draw.
      </p>
    );
  const drawn = lines.filter((line) => line.points.some((point) => point?.value != null));
  const [low, high] = [Math.min(...values), Math.max(...values)];
  const room = (high - low || Math.abs(high) || 1) * 0.12;
  // A limit far off would flatten every line: it is in the table.
  const reach = 3 * (high - low || room);
  const near = lines
    .flatMap((line) => [line.limit?.at_least ?? [], line.limit?.at_most ?? []].flat())
    .filter((bound) => bound > low - reach && bound < high + reach);
  const span: [number, number] = [Math.min(low, ...near) - room, Math.max(high, ...near) + room];
  const far = lines.some((line) => line.limit) && near.length === 0;
  return (
    <figure className="border-t border-line bg-sheet px-5 py-3">
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(17rem,1fr))] gap-x-5 gap-y-3">
        {drawn.map((line) => (
          <SmallTrend key={line.condition.id} line={line} builds={builds} measure={measure} span={span} />
        ))}
      </ul>
      <figcaption className="pt-2 text-xs text-quiet">
        {measure.unit && `${measure.unit}, `}all in one scale{far && ", their limits beyond it"}. A change is
        marked where the figure moves by more than six times its usual step from build to build; its number
        opens the two builds beside each other. ◆ where a render became the reference, the broken line a
        limit.
        {drawn.length < lines.length &&
          ` ${count(lines.length - drawn.length, "condition")} without a figure.`}
      </figcaption>
    </figure>
  );
}
