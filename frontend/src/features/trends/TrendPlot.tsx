import { scaleLinear, scalePoint } from "d3-scale";
import { useState } from "react";
import { Link } from "react-router";
import type { Measure, Sheet, TrendLine } from "../../api/client";
import { number } from "../../ui/numbers";
import { verdictText } from "../../ui/words";
import { placeText } from "./lines";

const WIDTH = 1200;
const HEIGHT = 250;
const EDGE = { left: 70, right: 30, top: 22, bottom: 30 };
const DASHES = ["", "7 4", "2 3", "10 3 2 3", "5 2", "1 4"];

/** One line a condition over the builds, told apart by their strokes; the limit, and where references were approved. */
export function TrendPlot({
  lines,
  builds,
  measure,
}: {
  lines: TrendLine[];
  builds: Sheet["siblings"];
  measure: Measure;
}) {
  const [near, setNear] = useState<number>();
  const values = lines.flatMap((line) => line.points.flatMap((point) => point?.value ?? []));
  const bounds = lines.flatMap((line) => [line.limit?.at_least ?? [], line.limit?.at_most ?? []].flat());
  if (values.length === 0)
    return (
      <p className="border-t border-line px-5 py-4 text-quiet">
        No build has a reading of it here: where all is identical there is no residual, and nothing to draw.
      </p>
    );
  const x = scalePoint(
    builds.map((build) => String(build.run_id)),
    [EDGE.left, WIDTH - EDGE.right],
  ).padding(0.4);
  const all = [...values, ...bounds];
  const [low, high] = [Math.min(...all), Math.max(...all)];
  const room = (high - low || Math.abs(high) || 1) * 0.1;
  const y = scaleLinear([low - room, high + room], [HEIGHT - EDGE.bottom, EDGE.top]);
  const place = (i: number) => x(String(builds[i]?.run_id)) ?? 0;
  const hosts = [...new Set(lines.map((line) => `${line.condition.host} ${line.condition.mode}`))];
  const limits = [...new Set(bounds)];
  return (
    <figure className="border-t border-line bg-sheet px-5 py-3">
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="block w-full"
        aria-label={`${measure.title} over builds`}
      >
        <title>{measure.title} over builds</title>
        {y.ticks(5).map((tick) => (
          <g key={tick}>
            <line x1={EDGE.left} x2={WIDTH - EDGE.right} y1={y(tick)} y2={y(tick)} className="stroke-line" />
            <text x={EDGE.left - 8} y={y(tick) + 4} textAnchor="end" className="fill-quiet text-[13px]">
              {number(tick, Math.max(0, Math.min(3, -Math.floor(Math.log10(Math.abs(room) || 1)))))}
            </text>
          </g>
        ))}
        <text x={EDGE.left - 8} y={14} textAnchor="end" className="fill-quiet text-[13px]">
          {measure.unit}
        </text>
        {limits.map((limit) => (
          <g key={limit}>
            <line
              x1={EDGE.left}
              x2={WIDTH - EDGE.right}
              y1={y(limit)}
              y2={y(limit)}
              strokeDasharray="3 3"
              className="stroke-difference"
            />
            <text
              x={WIDTH - EDGE.right}
              y={y(limit) - 4}
              textAnchor="end"
              className="fill-difference text-[13px]"
            >
              limit
            </text>
          </g>
        ))}
        {builds.map((build, i) => (
          <text
            key={build.run_id}
            x={place(i)}
            y={HEIGHT - 8}
            textAnchor="middle"
            className="fill-text text-[13px]"
          >
            {build.version}
          </text>
        ))}
        {lines.map((line, n) => {
          const points = line.points.map((point, i) =>
            point?.value == null ? undefined : { point, value: point.value, x: place(i), y: y(point.value) },
          );
          const drawn = points.filter((one) => one !== undefined);
          const faint = near !== undefined && near !== n;
          return (
            // biome-ignore lint/a11y/noStaticElementInteractions: hovering only makes the others fainter
            <g
              key={line.condition.id}
              opacity={faint ? 0.25 : 1}
              onMouseEnter={() => setNear(n)}
              onMouseLeave={() => setNear(undefined)}
            >
              <polyline
                points={drawn.map((one) => `${one.x},${one.y}`).join(" ")}
                fill="none"
                strokeWidth={near === n ? 2.5 : 1.5}
                strokeDasharray={
                  DASHES[hosts.indexOf(`${line.condition.host} ${line.condition.mode}`) % DASHES.length]
                }
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
                    r={4.5}
                    className={one.point.verdict === "Fail" ? "fill-difference" : "fill-render"}
                  />
                </Link>
              ))}
            </g>
          );
        })}
        {[...new Set(lines.flatMap((line) => line.approved))].map((i) => (
          <g key={i}>
            <path d={`M${place(i)} ${EDGE.top - 16}l5 5l-5 5l-5 -5z`} className="fill-reference" />
            <text x={place(i) + 9} y={EDGE.top - 6} className="fill-reference text-[13px]">
              references approved
            </text>
          </g>
        ))}
      </svg>
      <figcaption className="min-h-5 text-xs text-quiet">
        {near !== undefined && lines[near]
          ? placeText(lines[near])
          : "A line for each condition, a stroke for each host and mode; a point opens its pair."}
      </figcaption>
    </figure>
  );
}
