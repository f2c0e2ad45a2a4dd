import { useQuery } from "@tanstack/react-query";
import type { Measure, Reading } from "../../api/client";
import { measuresQuery } from "../../api/measures";
import { limitText, number, valueText } from "../../ui/numbers";
import { Tooltip, Tooltips } from "../../ui/Tooltip";

const FAMILIES: Record<string, string> = {
  compare: "Against the reference",
  integrity: "Integrity",
  tone: "The tone",
  aliases: "Aliases",
  imd: "Intermodulation",
  response: "Response",
  latency: "Latency",
  transfer: "Transfer curve",
  dynamics: "Dynamics",
  takes: "Take spread",
  lossy: "Lossy encoding",
  levels: "Levels of the render",
  loudness: "Loudness of the render",
  cost: "Render cost",
};
const OF_REFERENCE: Record<string, string> = {
  levels: "Levels of the reference",
  loudness: "Loudness of the reference",
  integrity: "Integrity of the reference",
};

const LEVELS = ["levels", "loudness"];
const TITLES = {
  render: FAMILIES,
  levels: Object.fromEntries(Object.entries(FAMILIES).filter(([family]) => LEVELS.includes(family))),
  reference: OF_REFERENCE,
};

/** All readings, set to be read down: value, then limit; a name tells its definition. */
export function Readings(props: {
  readings: Reading[];
  channels: number;
  of: keyof typeof TITLES;
  /** Whether levels stand in a table of their own, beside those of the reference. */
  beside?: boolean;
}) {
  const { readings, channels, beside = false } = props;
  const measures = useQuery(measuresQuery);
  if (!measures.data) return null;
  const names =
    channels > 1 ? ["all", ...Array.from({ length: channels }, (_, i) => String(i + 1))] : ["all"];
  return (
    <Tooltips>
      {Object.entries(TITLES[props.of]).map(([family, title]) => {
        if (beside && LEVELS.includes(family)) return null;
        const rows = measures.data.measures.filter(
          (measure) =>
            measure.family === family && readings.some((reading) => reading.measure === measure.key),
        );
        if (rows.length === 0) return null;
        return (
          <table key={family} className="mb-4 w-full">
            <caption className="pb-1 text-left font-semibold">{title}</caption>
            <thead className={channels > 1 ? "text-xs text-quiet" : "sr-only"}>
              <tr>
                <th scope="col" className="sr-only">
                  Measure
                </th>
                {names.map((name) => (
                  <th key={name} scope="col" className="text-right font-normal">
                    {name === "all" ? "all" : `ch ${name}`}
                  </th>
                ))}
                <th scope="col" className="sr-only">
                  Unit
                </th>
                <th scope="col" className="text-right font-normal">
                  limit
                </th>
              </tr>
            </thead>
            <tbody>
              {rows.map((measure) => (
                <Row key={measure.key} measure={measure} readings={readings} names={names} />
              ))}
            </tbody>
          </table>
        );
      })}
    </Tooltips>
  );
}

function Row({ measure, readings, names }: { measure: Measure; readings: Reading[]; names: string[] }) {
  const of = (name: string) => readings.find((one) => one.measure === measure.key && one.channel === name);
  const overall = of("all");
  if (!overall) return null;
  const broken = overall.judgement === "broken";
  return (
    <>
      <tr className="border-t border-line">
        <th scope="row" className="py-1 text-left font-normal">
          <Definition measure={measure} />
        </th>
        {names.map((name) => {
          const reading = of(name);
          return (
            <td
              key={name}
              className={`py-1 pl-2 text-right whitespace-nowrap ${broken && name === "all" ? "font-semibold text-difference" : name === "all" ? "font-semibold" : ""}`}
            >
              {reading ? valueText(reading, measure) : ""}
              {broken && name === "all" && <span className="sr-only"> beyond its limit</span>}
            </td>
          );
        })}
        <td className="w-12 py-1 pl-1.5 text-xs whitespace-nowrap text-quiet">
          {overall.value === null ? "" : measure.unit}
        </td>
        <td className="w-14 py-1 text-right text-xs whitespace-nowrap text-quiet">
          {limitText(overall.limit, measure)}
        </td>
      </tr>
      <Note reading={overall} measure={measure} span={names.length + 3} />
    </>
  );
}

function Note({ reading, measure, span }: { reading: Reading; measure: Measure; span: number }) {
  const spread = reading.uncertainty ?? 0;
  const parts = [
    spread > 10 ** -measure.decimals / 2 ? `± ${number(spread, measure.decimals)} ${measure.unit}` : "",
    reading.why && reading.reason !== "identical" ? reading.why : "",
  ].filter(Boolean);
  if (parts.length === 0) return null;
  return (
    <tr>
      <td colSpan={span} className="pb-1 text-xs text-quiet">
        {parts.join("; ")}
      </td>
    </tr>
  );
}

function Definition({ measure }: { measure: Measure }) {
  return (
    <Tooltip words={measure.title}>
      <p>{measure.definition}</p>
      <p className="mt-2 text-xs text-quiet">
        {measure.source} In files and on the command line: {measure.key}
      </p>
    </Tooltip>
  );
}
