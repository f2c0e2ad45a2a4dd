import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { DecisionKind, Sheet } from "../../api/client";
import { MOST_LINES } from "../../api/limits.gen";
import { useCan } from "../../api/me";
import { measuresQuery } from "../../api/measures";
import { Button, EveryWord, Sentence, Word } from "../../ui/controls";
import { count, kilohertz } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { inBothForms, reportFiles, TakeAway } from "../../ui/TakeAway";
import { DecideDialog } from "../decisions/DecideDialog";
import { UndoBar, useLastAct } from "../decisions/UndoBar";
import { Filters } from "./Filters";
import { Findings } from "./Findings";
import { Grid } from "./Grid";
import { Pictures } from "./Ink";
import { find, layOut, nextTrouble, type Position, rectangle, step, type View } from "./layout";
import { listenToCells } from "./listen";
import { useCompareAcross, usePictures, useSheet } from "./queries";
import { RunState } from "./RunState";
import { Slip } from "./Slip";
import { useSheetKeys } from "./sheetKeys";
import { othersOf, rendersText } from "./telling";

const ADDRESS_WAITS_MS = 200;

/** Cells whose numbers an address has room for. */
const MOST_REPORTED = 2000;

export function SheetPage() {
  const run = Number(useParams().run);
  const [search] = useSearchParams();
  const against = search.get("against") ?? "";
  const sheet = useSheet(run, search.get("measure") ?? "", against);
  if (sheet.isPending) return <Loading what="the sheet" />;
  if (!sheet.data) return <Failed error={sheet.error} onRetry={() => sheet.refetch()} />;
  return (
    <>
      <Stale error={sheet.error} />
      <SheetView key={`${run}/${against}`} sheet={sheet.data} against={against} />
    </>
  );
}

/** What the address says of how the sheet is laid out. */
function viewFrom(search: URLSearchParams): View {
  const one = <T extends string>(name: string, values: readonly T[]): T =>
    values.find((value) => value === search.get(name)) ?? (values[0] as T);
  return {
    host: search.get("host") ?? "",
    rate: search.get("rate") ?? "",
    only: search.get("only") ?? "",
    text: search.get("text") ?? "",
    rowsBy: one("rows", ["signal", "setting"]),
    columnsBy: one("columns", ["host", "mode", "rate"]),
    order: one("order", ["plan", "trouble"]),
    folded: new Set(search.getAll("folded")),
  };
}

function SheetView({ sheet, against }: { sheet: Sheet; against: string }) {
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  // The chosen cell is left out: walking over a large sheet must not lay it out anew.
  const asked = [...search].filter(([name]) => name !== "cell").join("&");
  // biome-ignore lint/correctness/useExhaustiveDependencies: the address without the cell stands for it
  const view = useMemo(() => viewFrom(search), [asked]);
  const figures = search.get("figures") === "1";
  const measures = useQuery(measuresQuery);
  const measure = measures.data?.measures.find((one) => one.key === sheet.measure);
  const [chosenId, setChosenId] = useState(() => Number(search.get("cell")) || undefined);
  const [marked, setMarked] = useState<ReadonlySet<number>>(new Set());
  const [deciding, setDeciding] = useState<{ cells: number[]; first: DecisionKind }>();
  const { undo, act } = useLastAct({ run_id: sheet.run.id });
  const layout = useMemo(() => layOut(sheet, view), [sheet, view]);
  const box = useRef<HTMLDivElement>(null);
  const anchor = useRef<Position>(undefined);
  // Keys may come faster than the page follows, so each starts from where the last one led. It is a cell, not a
  // place, for live data may lay the sheet out anew.
  const reached = useRef(chosenId);
  const at = () => find(layout, reached.current);
  const chosen = sheet.cells.find((cell) => cell.id === chosenId);

  // The router gives a new function for every address; what is memoised here must not follow each step.
  const setAddress = useRef(setSearch);
  setAddress.current = setSearch;
  const put = useCallback(
    (changes: Record<string, string>) =>
      setAddress.current(
        (before) => {
          for (const [key, value] of Object.entries(changes))
            value ? before.set(key, value) : before.delete(key);
          return before;
        },
        { replace: true },
      ),
    [],
  );
  // The address follows once the keys rest.
  const told = search.get("cell");
  useEffect(() => {
    if (!chosenId || told === String(chosenId)) return;
    const here = window.location.pathname;
    const timer = window.setTimeout(() => {
      // Another page may be on its way, which the address is of already.
      if (window.location.pathname === here) put({ cell: String(chosenId) });
    }, ADDRESS_WAITS_MS);
    return () => window.clearTimeout(timer);
  }, [chosenId, told, put]);
  const choose = useCallback((id: number) => {
    reached.current = id;
    setChosenId(id);
  }, []);
  const click = useCallback(
    (id: number) => {
      anchor.current = undefined;
      choose(id);
    },
    [choose],
  );
  const route = useRef(navigate);
  route.current = navigate;
  const beside = useRef(new Map<number, number | null>());
  beside.current = new Map(sheet.cells.map((cell) => [cell.id, cell.other]));
  const open = useCallback((id: number) => {
    const other = beside.current.get(id);
    route.current(other ? `/cells/${id}?beside=${other}` : `/cells/${id}`);
  }, []);
  const fold = useCallback(
    (key: string) =>
      setAddress.current(
        (before) => {
          const folded = before.getAll("folded");
          before.delete("folded");
          for (const one of folded.includes(key) ? folded.filter((other) => other !== key) : [...folded, key])
            before.append("folded", one);
          return before;
        },
        { replace: true },
      ),
    [],
  );
  const mark = useCallback(
    (cells: number[]) => {
      setMarked(new Set(cells));
      if (cells[0] !== undefined) choose(cells[0]);
    },
    [choose],
  );

  const go = (position: Position | undefined) => {
    const cell = position && layout.rows[position.row]?.slots[position.column]?.cell;
    if (cell) choose(cell.id);
  };
  const walk = (down: number, right: number) => {
    anchor.current = undefined;
    const from = at();
    go(from ? step(layout, from, down, right) : step(layout, { row: 0, column: -1 }, 0, 1));
  };
  const stretch = (down: number, right: number) => {
    const here = at();
    if (!here) return;
    const from = anchor.current ?? here;
    const to = step(layout, here, down, right);
    anchor.current = from;
    setMarked(new Set(rectangle(layout, from, to)));
    go(to);
  };
  const toggle = (id: number) =>
    setMarked((before) => {
      const next = new Set(before);
      next.has(id) ? next.delete(id) : next.add(id);
      return next;
    });
  const toBuild = (by: number) => {
    const index = sheet.siblings.findIndex((sibling) => sibling.run_id === sheet.run.id);
    const other = sheet.siblings[index + by];
    if (other) navigate(`/runs/${other.run_id}`);
  };
  // Of another build, host or mode nothing was compared in advance; whoever looks first asks for it.
  const compare = useCompareAcross(sheet.run.id);
  const works = useCan("work");
  const missing = against !== "" && sheet.cells.some((cell) => cell.state === "analysing");
  const requested = useRef(false);
  useEffect(() => {
    if (!missing || requested.current) return;
    requested.current = true;
    compare.mutate(against);
  }, [missing, against, compare]);
  const targets = marked.size > 0 ? [...marked] : chosen ? [chosen.id] : [];
  const decide = (first: DecisionKind) =>
    works && targets.length > 0 && against === "" && setDeciding({ cells: targets, first });
  const queries = useQueryClient();
  const listen = () => {
    if (targets.length > 0)
      void listenToCells(queries, sheet, targets).then(
        (address) => navigate(address),
        () => {},
      );
  };
  const overlay = () => {
    if (targets.length > 0 && targets.length <= MOST_LINES)
      navigate(`/overlay?cells=${targets.join()}&from=${sheet.run.id}`);
  };
  useSheetKeys({
    walk,
    stretch,
    trouble: (by) => go(nextTrouble(layout, at(), by)),
    build: toBuild,
    figures: () => put({ figures: figures ? "" : "1" }),
    only: () => put({ only: view.only === "needs" ? "" : "needs" }),
    mark: () => chosen && toggle(chosen.id),
    unmark: () => setMarked(new Set()),
    decide,
    listen,
    overlay,
    report: () => navigate(`/runs/${sheet.run.id}/report`),
    undo,
    open: () => chosen && open(chosen.id),
  });

  const wide = layout.columns.length <= MOST_COLUMNS;
  const pictures = usePictures(
    sheet.run.id,
    sheet.version,
    wide && !figures && against === "" && measure?.key === "residual_rms",
  );
  const waiting = useMemo(() => sheet.cells.filter((cell) => cell.first).map((cell) => cell.id), [sheet]);
  const rates = [...new Set(sheet.conditions.map((condition) => condition.rate))];
  const { run } = sheet;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-1 px-5 pt-3 pb-1">
        <Sentence>
          <Word
            name="Build"
            value={String(run.id)}
            choices={sheet.siblings.map((one) => ({
              value: String(one.run_id),
              label: `${run.effect} ${one.version}`,
            }))}
            onChoose={(value) => navigate(`/runs/${value}`)}
          />{" "}
          against{" "}
          <Word
            name="Against"
            value={against}
            choices={othersOf(sheet)}
            onChoose={(value) => put({ against: value, cell: "", only: "" })}
          />
          , in{" "}
          <EveryWord
            name="Host"
            value={view.host}
            every="every host"
            names={sheet.conditions.map((one) => one.host)}
            onChoose={(value) => put({ host: value })}
          />
          , at{" "}
          <Word
            name="Rate"
            value={view.rate}
            choices={[
              { value: "", label: "every rate" },
              ...rates.map((one) => ({ value: String(one), label: `${kilohertz(one)} kHz` })),
            ]}
            onChoose={(value) => put({ rate: value })}
          />
          .
        </Sentence>
        <div className="ml-auto flex items-center gap-2">
          <Link
            to={`/runs/${run.id}/report`}
            className="pr-2 whitespace-nowrap underline decoration-line hover:decoration-text"
          >
            Report<span className="kbd">R</span>
          </Link>
          <TakeAway
            what="the sheet"
            files={[
              ...(marked.size > 0 && marked.size <= MOST_REPORTED
                ? reportFiles(
                    `Report of ${count(marked.size, "marked cell")}`,
                    `/api/reports/runs/${run.id}`,
                    { cells: [...marked].join() },
                  )
                : []),
              ...inBothForms("Cells with all measures", `/api/tables/runs/${run.id}/cells`),
              ...inBothForms("Every reading", `/api/tables/runs/${run.id}/readings`),
              { label: "Evidence, ZIP", path: `/api/runs/${run.id}/evidence.zip` },
            ]}
          />
          {sheet.by_hand > 0 && (
            <Link to={`/runs/${run.id}/kit`} className="pr-2 underline decoration-line hover:decoration-text">
              {count(sheet.by_hand, "cell")} rendered by hand: the kit
            </Link>
          )}
          {waiting.length > 0 && against === "" && (
            <Button needs="keep" onClick={() => setDeciding({ cells: waiting, first: "reference" })}>
              Approve all {waiting.length} without a reference
            </Button>
          )}
        </div>
      </div>
      <RunState sheet={sheet} across={against !== ""} only={view.only} onPut={put} />
      <UndoBar act={act} onUndo={undo} />
      <div className="flex min-h-0 flex-1 border-t border-line pt-2">
        <Findings sheet={sheet} across={against !== ""} marked={marked} onMark={mark} />
        <div className="flex min-w-0 flex-1 flex-col">
          <Filters
            sheet={sheet}
            view={view}
            measures={measures.data?.measures ?? []}
            figures={figures}
            shown={layout.shown}
            onPut={put}
          />
          <div ref={box} className="min-h-0 flex-1 overflow-auto pr-5">
            {layout.rows.length > 0 ? (
              <Pictures value={pictures}>
                <Grid
                  layout={layout}
                  box={box}
                  chosen={chosenId}
                  marked={marked}
                  figures={figures ? measure : undefined}
                  tick={sheet.ink_at_limit}
                  onChoose={click}
                  onOpen={open}
                  onFold={fold}
                />
              </Pictures>
            ) : (
              <p className="py-6 text-quiet">
                No cell matches the filter.{" "}
                <button
                  type="button"
                  className="underline"
                  onClick={() => put({ only: "", text: "", host: "", rate: "" })}
                >
                  Show all
                </button>
              </p>
            )}
          </div>
        </div>
      </div>
      <Slip
        sheet={sheet}
        cell={chosen}
        marked={marked}
        decidable={against === ""}
        onOpen={() => chosen && open(chosen.id)}
        onListen={listen}
        onOverlay={overlay}
        onDecide={decide}
      />
      {deciding && (
        <DecideDialog
          cells={deciding.cells}
          first={deciding.first}
          seen={sheet.latest_act}
          what={rendersText(sheet, deciding.cells)}
          onClose={() => setDeciding(undefined)}
          onDone={() => setMarked(new Set())}
        />
      )}
    </>
  );
}

/** Columns up to which a cell has room for a picture. */
const MOST_COLUMNS = 14;
