import { memo, useMemo } from "react";
import type { Measure, Sheet } from "../../api/client";
import { Button, Word } from "../../ui/controls";
import { count } from "../../ui/numbers";
import { DECIDED_BY, type View } from "./layout";

interface Props {
  sheet: Sheet;
  view: View;
  measures: Measure[];
  figures: boolean;
  shown: number;
  onPut: (changes: Record<string, string>) => void;
}

const ONLY = [
  { value: "", label: "every cell" },
  { value: "needs", label: "what needs review" },
  { value: "Fail", label: "what fails" },
  { value: "Changed", label: "what changed" },
  { value: "No reading", label: "what has no reading" },
  { value: "Waiting", label: "what has no reference yet" },
  { value: "new", label: "what newly fails" },
  { value: "still", label: "what still fails" },
  { value: "fixed", label: "what is fixed" },
];

/** How the sheet is laid out, in one line; its words are the controls. */
export const Filters = memo(function Filters({ sheet, view, measures, figures, shown, onPut }: Props) {
  const titles = new Map(measures.map((one) => [one.key, one.title]));
  const choices = useMemo(() => {
    const people = new Set(sheet.cells.flatMap((cell) => cell.decision?.who ?? []));
    const by = [...people].sort().map((who) => ({
      value: `${DECIDED_BY}${who}`,
      label: `what ${who} decided on`,
    }));
    return [...ONLY, ...by];
  }, [sheet.cells]);
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1 pr-5 pb-1.5 text-xs text-quiet">
      <p>
        Shown: <Word name="Shown" value={view.only} choices={choices} onChoose={(only) => onPut({ only })} />,
        inked by{" "}
        <Word
          name="Measure"
          value={sheet.measure}
          choices={sheet.measures.map((key) => ({ value: key, label: titles.get(key) ?? key }))}
          onChoose={(key) => onPut({ measure: key === "residual_rms" ? "" : key })}
        />
        ; rows by{" "}
        <Word
          name="Rows"
          value={view.rowsBy}
          choices={[
            { value: "signal", label: "signal" },
            { value: "setting", label: "setting" },
          ]}
          onChoose={(rows) => onPut({ rows: rows === "signal" ? "" : rows })}
        />
        , columns by{" "}
        <Word
          name="Columns"
          value={view.columnsBy}
          choices={[
            { value: "host", label: "host" },
            { value: "mode", label: "mode" },
            { value: "rate", label: "rate" },
          ]}
          onChoose={(columns) => onPut({ columns: columns === "host" ? "" : columns })}
        />
        , in order of{" "}
        <Word
          name="Order"
          value={view.order}
          choices={[
            { value: "plan", label: "the plan" },
            { value: "trouble", label: "trouble" },
          ]}
          onChoose={(order) => onPut({ order: order === "plan" ? "" : order })}
        />
        .
      </p>
      <label className="flex items-center gap-1.5">
        <span className="sr-only">Signal or setting contains</span>
        <input
          type="search"
          value={view.text}
          placeholder="signal or setting"
          onChange={(event) => onPut({ text: event.target.value })}
          className="h-6 w-36 rounded border border-line bg-sheet px-1.5 text-text placeholder:text-quiet"
        />
      </label>
      {shown < sheet.cells.length && (
        <span>
          {shown} of {count(sheet.cells.length, "cell")}
        </span>
      )}
      <Button
        hint="F"
        small
        className="ml-auto"
        aria-pressed={figures}
        onClick={() => onPut({ figures: figures ? "" : "1" })}
      >
        {figures ? "Ink only" : "Figures"}
      </Button>
    </div>
  );
});
