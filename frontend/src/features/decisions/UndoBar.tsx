import { useQuery } from "@tanstack/react-query";
import type { Act } from "../../api/client";
import { useMe } from "../../api/me";
import { Button } from "../../ui/controls";
import { count, ended, sentenceCase } from "../../ui/numbers";
import { useSay } from "../../ui/Toast";
import { type Decided, latestActQuery, useUndo } from "./queries";

const SHOWN_FOR_MS = 10 * 60 * 1000;

interface LastAct {
  act: Act | undefined;
  undo: () => void;
}

/** The last decision on what a page shows, as long as it is fresh, and the undoing of it. */
export function useLastAct(of: Decided): LastAct {
  const latest = useQuery(latestActQuery(of));
  const me = useMe();
  const say = useSay();
  const undoing = useUndo();
  const act = latest.data?.act ?? undefined;
  const fresh =
    act && Date.now() - Date.parse(act.at) < SHOWN_FOR_MS && act.who === me.name ? act : undefined;
  const undo = () => {
    if (undoing.isPending || latest.isPending) return;
    if (!fresh) {
      say("There is no decision of yours on this page from the last ten minutes to undo.");
      return;
    }
    undoing.mutate(fresh.id, {
      onSuccess: (undone) => say(`Undone: ${undone.kind}, ${count(undone.cells, "cell")}.`),
      onError: (error) => say(error.message, true),
    });
  };
  return { act: fresh, undo };
}

export function UndoBar({ act, onUndo }: { act: LastAct["act"]; onUndo: () => void }) {
  if (!act) return null;
  return (
    <div role="status" className="flex h-11 shrink-0 items-center gap-4 border-y border-line bg-sheet px-5">
      <p>{ended(`${sentenceCase(act.kind)}: ${count(act.cells, "cell")}, by ${act.who}`)}</p>
      <Button hint="U" small onClick={onUndo}>
        Undo
      </Button>
    </div>
  );
}
