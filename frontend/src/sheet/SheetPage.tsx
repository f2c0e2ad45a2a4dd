import { useMemo, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import type { Cell, Sheet } from "../api/client";
import { useSheet } from "../api/queries";
import { Button, EveryWord, Sentence, Word } from "../parts/controls";
import { useKeys } from "../parts/keys";
import { count, duration, kilohertz } from "../parts/numbers";
import { Failed, Loading, Stale } from "../parts/states";
import { ApproveDialog } from "../references/ApproveDialog";
import { UndoBar, useLastAct } from "../references/UndoBar";
import { Grid } from "./Grid";
import { find, layOut, needsYou, nextTrouble, type Position, rectangle, step } from "./layout";
import { Reasons } from "./Reasons";
import { Slip } from "./Slip";

export function SheetPage() {
  const run = Number(useParams().run);
  const sheet = useSheet(run);
  if (sheet.isPending) return <Loading what="the sheet" />;
  if (!sheet.data) return <Failed error={sheet.error} onRetry={() => sheet.refetch()} />;
  return (
    <>
      <Stale error={sheet.error} />
      <SheetView key={run} sheet={sheet.data} />
    </>
  );
}

function SheetView({ sheet }: { sheet: Sheet }) {
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const host = search.get("host") ?? "";
  const rate = search.get("rate") ?? "";
  const figures = search.get("figures") === "1";
  const cellId = Number(search.get("cell")) || undefined;
  const [marked, setMarked] = useState<ReadonlySet<number>>(new Set());
  const anchor = useRef<Position>(undefined);
  const [approving, setApproving] = useState<number[]>();
  const { undo, act } = useLastAct();
  const layout = useMemo(() => layOut(sheet, host, rate), [sheet, host, rate]);
  // Keys may come faster than the address follows, so each starts from where the last one led; the
  // address is read once. It is a cell, not a place, for live data may lay the sheet out anew.
  const reached = useRef(cellId);
  const at = () => find(layout, reached.current);
  const chosen = sheet.cells.find((cell) => cell.id === cellId);

  const put = (changes: Record<string, string>) =>
    setSearch(
      (before) => {
        for (const [key, value] of Object.entries(changes))
          value ? before.set(key, value) : before.delete(key);
        return before;
      },
      { replace: true },
    );
  const choose = (id: number) => {
    reached.current = id;
    put({ cell: String(id) });
  };
  const go = (position: Position | undefined) => {
    const cell = position && layout.rows[position.row]?.cells[position.column];
    if (!cell) return;
    choose(cell.id);
  };
  const walk = (down: number, right: number) => {
    anchor.current = undefined;
    const from = at();
    go(from ? step(layout, from, down, right) : { row: 0, column: 0 });
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
  const targets = marked.size > 0 ? [...marked] : chosen ? [chosen.id] : [];
  const approvable = sheet.cells.filter(canApprove).map((cell) => cell.id);
  useKeys({
    ArrowUp: () => walk(-1, 0),
    ArrowDown: () => walk(1, 0),
    ArrowLeft: () => walk(0, -1),
    ArrowRight: () => walk(0, 1),
    "Shift+ArrowUp": () => stretch(-1, 0),
    "Shift+ArrowDown": () => stretch(1, 0),
    "Shift+ArrowLeft": () => stretch(0, -1),
    "Shift+ArrowRight": () => stretch(0, 1),
    ".": () => go(nextTrouble(layout, at(), 1)),
    ",": () => go(nextTrouble(layout, at(), -1)),
    "[": () => toBuild(-1),
    "]": () => toBuild(1),
    f: () => put({ figures: figures ? "" : "1" }),
    x: () => chosen && toggle(chosen.id),
    a: () => targets.length > 0 && setApproving(targets),
    u: () => undo(),
    Escape: () => setMarked(new Set()),
    Enter: () => chosen && navigate(`/cells/${chosen.id}`),
  });

  const rates = [...new Set(sheet.conditions.map((condition) => condition.rate))];
  const { run } = sheet;
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-1 px-5 pt-3 pb-2">
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
          <Link to="/references" className="border-b-2 border-line font-semibold hover:border-quiet">
            approved references
          </Link>
          , in{" "}
          <EveryWord
            name="Host"
            value={host}
            every="every host"
            names={sheet.conditions.map((one) => one.host)}
            onChoose={(value) => put({ host: value })}
          />
          , at{" "}
          <Word
            name="Rate"
            value={rate}
            choices={[
              { value: "", label: "every rate" },
              ...rates.map((one) => ({ value: String(one), label: `${kilohertz(one)} kHz` })),
            ]}
            onChoose={(value) => put({ rate: value })}
          />
          .
        </Sentence>
        <Progress sheet={sheet} />
        <div className="ml-auto flex items-center gap-2">
          {sheet.by_hand > 0 && (
            <Link to={`/runs/${run.id}/kit`} className="pr-2 underline decoration-line hover:decoration-text">
              {count(sheet.by_hand, "cell")} rendered by hand: the kit
            </Link>
          )}
          <Button hint="F" aria-pressed={figures} onClick={() => put({ figures: figures ? "" : "1" })}>
            {figures ? "Ink alone" : "Figures"}
          </Button>
          {approvable.length > 0 && (
            <Button onClick={() => setApproving(approvable)}>
              Approve all {approvable.length} that wait
            </Button>
          )}
        </div>
      </div>
      <UndoBar act={act} onUndo={undo} />
      <div className="flex min-h-0 flex-1">
        <Reasons
          sheet={sheet}
          marked={marked}
          onMark={(cells) => setMarked(new Set(cells))}
          onGo={choose}
        />
        <div className="min-w-0 flex-1 overflow-auto pr-5 pb-6">
          <Grid
            layout={layout}
            chosen={cellId}
            marked={marked}
            figures={figures}
            tick={sheet.ink_at_limit}
            onChoose={(id) => {
              anchor.current = undefined;
              choose(id);
            }}
            onOpen={(id) => navigate(`/cells/${id}`)}
          />
        </div>
      </div>
      <Slip
        sheet={sheet}
        cell={chosen}
        marked={marked.size}
        onOpen={() => chosen && navigate(`/cells/${chosen.id}`)}
        onApprove={() => setApproving(targets)}
      />
      {approving && (
        <ApproveDialog
          cells={approving}
          what={describe(sheet, approving)}
          onClose={() => setApproving(undefined)}
          onDone={() => setMarked(new Set())}
        />
      )}
    </>
  );
}

const canApprove = (cell: Cell) => cell.verdict === "Waiting" && cell.state === "done" && !cell.unfit;

function describe(sheet: Sheet, ids: number[]): string {
  const wanted = new Set(ids);
  const unfit = sheet.cells.filter((cell) => wanted.has(cell.id) && cell.unfit).length;
  const renders = `${count(ids.length, "render")} of ${sheet.run.effect} ${sheet.run.build.version}`;
  return unfit > 0 ? `${renders}, of which ${unfit} failed integrity and cannot be approved` : renders;
}

function Progress({ sheet }: { sheet: Sheet }) {
  const { finished, cells, seconds_left } = sheet.run;
  const troubled = sheet.cells.filter(needsYou).length;
  return (
    <p role="status" className="text-quiet">
      {finished < cells
        ? `${finished} of ${cells} done${seconds_left === null ? "" : `, ${duration(seconds_left)} left`}`
        : troubled === 0
          ? `All ${cells} cells pass`
          : `${troubled} of ${count(cells, "cell")} ${troubled === 1 ? "needs" : "need"} you`}
    </p>
  );
}
