import { useQuery } from "@tanstack/react-query";
import type { Measure, Pair, Reading } from "../../api/client";
import { measuresQuery } from "../../api/measures";
import { number, valueText } from "../../ui/numbers";

const FAMILIES = new Set(["levels", "loudness"]);

/** Levels and loudness of each side and of the difference, side by side, with the change. */
export function Levels({ pair }: { pair: Pair }) {
  const measures = useQuery(measuresQuery);
  const overall = (readings: Reading[], key: string) =>
    readings.find((one) => one.measure === key && one.channel === "all");
  const rows = (measures.data?.measures ?? []).flatMap((measure) => {
    if (!FAMILIES.has(measure.family)) return [];
    const reference = overall(pair.reference_readings, measure.key);
    const render = overall(pair.readings, measure.key);
    const difference = overall(pair.difference_readings, measure.key);
    return reference && render ? [{ measure, reference, render, difference }] : [];
  });
  if (rows.length === 0) return null;
  return (
    <table className="mb-4 w-full">
      <caption className="pb-1 text-left font-semibold">Levels, side by side</caption>
      <thead className="text-xs text-quiet [&_th]:pl-2 [&_th]:text-right [&_th]:font-normal">
        <tr>
          <th scope="col" className="sr-only">
            Measure
          </th>
          <th scope="col" className="text-reference">
            reference
          </th>
          <th scope="col" className="text-render">
            render
          </th>
          <th scope="col">change</th>
          <th scope="col" className="text-difference">
            difference
          </th>
        </tr>
      </thead>
      <tbody>
        {rows.map(({ measure, reference, render, difference }) => (
          <tr
            key={measure.key}
            className="border-t border-line [&>td]:pl-2 [&>td]:text-right [&>td]:whitespace-nowrap"
          >
            <th
              scope="row"
              title={`${measure.definition} ${measure.source}`}
              className="py-1 text-left font-normal"
            >
              {measure.title}
              <span className="text-xs text-quiet"> {measure.unit}</span>
            </th>
            <td>{valueText(reference, measure)}</td>
            <td className="font-semibold">{valueText(render, measure)}</td>
            <td>{changeText(reference, render, measure)}</td>
            <td>{difference ? valueText(difference, measure) : ""}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const changeText = (a: Reading, b: Reading, measure: Measure) =>
  a.value === null || b.value === null ? "" : number(b.value - a.value, measure.decimals, true);
