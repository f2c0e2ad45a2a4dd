import { scaleLinear, scalePoint } from "d3-scale";
import { Link } from "react-router";
import type { Measure, Sheet, TrendLine } from "../../api/client";
import { number } from "../../ui/numbers";
import { verdictText } from "../../ui/words";
import { placeText, stepText } from "./lines";

const WIDTH = 300;
const HEIGHT = 136;
const EDGE = { left: 48, right: 14, top: 26, bottom: 22 };
const MOST_NAMED = 4; // builds that have room for their names

/** One condition over the builds: its figures, its limit, where references were approved, and what changed. */
export function SmallTrend({
  line,
  builds,
  measure,
  span: [low, high],
}: {
  line: TrendLine;
  builds: Sheet["siblings"];
  measure: Measure;
  /** Least and greatest value that the axis has room for: the same for every condition. */
  span: [number, number];
}) {
  const x = scalePoint(
    builds.map((build) => String(build.run_id)),
    [EDGE.left, WIDTH - EDGE.right],
  ).padding(0.35);
  const y = scaleLinear([low, high], [HEIGHT - EDGE.bottom, EDGE.top]);
  const place = (i: number) => x(String(builds[i]?.run_id)) ?? 0;
  const drawn = line.points.flatMap((point, i) =>
    point?.value == null ? [] : [{ point, value: point.value, x: place(i), y: y(point.value) }],
  );
  const bounds = [line.limit?.at_least ?? [], line.limit?.at_most ?? []].flat();
  const ticks = y.ticks(3);
  const digits = Math.max(0, Math.min(3, -Math.floor(Math.log10((high - low) / 3 || 1))));
  const named = (i: number) =>
    builds.length <= MOST_NAMED ||
    i === 0 ||
    i === builds.length - 1 ||
    line.changes.some((step) => step.place === i);
  return (
    <li className="min-w-0">
      <h3 className="truncate text-xs font-semibold" title={placeText(line)}>
        {placeText(line)}
      </h3>
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} className="block w-full" aria-label={placeText(line)}>
        <title>{placeText(line)}</title>
        {ticks.map((tick) => (
          <g key={tick}>
            <line x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(tick)} y2={y(tick)} className="stroke-line" />
            <text x={EDGE.left - 6} y={y(tick) + 4} textAnchor="end" className="fill-quiet text-[11px]">
              {number(tick, digits)}
            </text>
          </g>
        ))}
        {bounds
          .filter((bound) => bound >= low && bound <= high)
          .map((bound) => (
            <line
              key={bound}
              x1={EDGE.left}
              x2={WIDTH - EDGE.right}
              y1={y(bound)}
              y2={y(bound)}
              strokeDasharray="3 3"
              className="stroke-difference"
            />
          ))}
        {builds.map(
          (build, i) =>
            named(i) && (
              <text
                key={build.run_id}
                x={place(i)}
                y={HEIGHT - 6}
                textAnchor={i === 0 ? "start" : i === builds.length - 1 ? "end" : "middle"}
                dx={i === 0 ? -8 : i === builds.length - 1 ? 8 : 0}
                className="fill-text text-[11px]"
              >
                {build.version}
              </text>
            ),
        )}
        {line.changes.map((step) => (
          <line
            key={step.place}
            x1={place(step.place)}
            x2={place(step.place)}
            y1={EDGE.top - 4}
            y2={HEIGHT - EDGE.bottom}
            strokeDasharray="1 3"
            className="stroke-quiet"
          />
        ))}
        <polyline
          points={drawn.map((one) => `${one.x},${one.y}`).join(" ")}
          fill="none"
          strokeWidth={1.5}
          className="stroke-render"
        />
        {drawn.map((one) => (
          <Link
            key={one.point.cell_id}
            to={`/cells/${one.point.cell_id}`}
            aria-label={`${placeText(line)}: ${number(one.value, measure.decimals)} ${measure.unit}, ${verdictText(one.point.verdict)}`}
          >
            <circle
              cx={one.x}
              cy={one.y}
              r={3.5}
              className={one.point.verdict === "Fail" ? "fill-difference" : "fill-render"}
            />
          </Link>
        ))}
        {line.approved.map((i) => (
          <path
            key={i}
            d={`M${place(i)} ${HEIGHT - EDGE.bottom - 5}l5 5l-5 5l-5 -5z`}
            className="fill-reference"
          />
        ))}
        {line.changes.map((step) => {
          const [before, after] = [line.points[step.before], line.points[step.place]];
          return (
            before &&
            after && (
              <Link
                key={step.place}
                to={`/cells/${after.cell_id}?beside=${before.cell_id}`}
                aria-label={`${placeText(line)}, ${builds[step.place]?.version} beside ${builds[step.before]?.version}: ${stepText(line, step, measure)}`}
              >
                <text
                  x={place(step.place)}
                  y={14}
                  textAnchor={step.place === builds.length - 1 ? "end" : "middle"}
                  dx={step.place === builds.length - 1 ? 10 : 0}
                  className="fill-text text-[12px] font-semibold underline"
                >
                  {stepText(line, step, measure)}
                </text>
              </Link>
            )
          );
        })}
      </svg>
    </li>
  );
}
