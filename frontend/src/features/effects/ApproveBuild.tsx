import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Approvable, RendersOfBuild } from "../../api/client";
import { Asking } from "../../ui/Asking";
import { Check } from "../../ui/Checkbox";
import { Button } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { count } from "../../ui/numbers";
import { Failed, Loading } from "../../ui/states";
import { verdictText } from "../../ui/words";
import { useUndo } from "../decisions/queries";
import { rendersOfBuildQuery, useApproveBuild } from "./queries";

const VERDICTS: Approvable[] = ["Pass", "Changed", "Waiting", "Fail"];

interface Props {
  buildId: number;
  /** Effect and version. */
  name: string;
  onClose: () => void;
}

/** Makes all that a build rendered the references, or what has some verdicts of it. */
export function ApproveBuild({ buildId, name, onClose }: Props) {
  const renders = useQuery(rendersOfBuildQuery(buildId));
  const approve = useApproveBuild(buildId);
  const done = approve.data;
  return (
    <Asking
      title={done ? "Approved" : `Approve what ${name} rendered`}
      {...(done ? {} : { about: "Later builds are compared with these renders. What they replace is kept." })}
      width="w-[34rem]"
      onClose={onClose}
    >
      {done ? (
        <Done act={done.id} cells={done.cells} name={name} onClose={onClose} />
      ) : renders.data ? (
        <Choose renders={renders.data} approve={approve} onClose={onClose} />
      ) : renders.error ? (
        <Failed error={renders.error} onRetry={() => renders.refetch()} />
      ) : (
        <Loading what="its renders" />
      )}
    </Asking>
  );
}

function Choose({
  renders,
  approve,
  onClose,
}: {
  renders: RendersOfBuild;
  approve: ReturnType<typeof useApproveBuild>;
  onClose: () => void;
}) {
  const [taken, setTaken] = useState<Approvable[]>(["Pass", "Changed", "Waiting"]);
  const [why, setWhy] = useState("");
  const offered = VERDICTS.filter((verdict) => (renders.approvable[verdict] ?? 0) > 0);
  const verdicts = offered.filter((verdict) => taken.includes(verdict));
  const expected = verdicts.reduce((sum, verdict) => sum + (renders.approvable[verdict] ?? 0), 0);
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        approve.mutate({ verdicts, expected, why });
      }}
    >
      {offered.length > 0 && (
        <fieldset className="grid gap-1.5">
          <legend className="sr-only">Cells to approve, by verdict</legend>
          {offered.map((verdict) => (
            <Check
              key={verdict}
              label={`${verdictText(verdict)}: ${count(renders.approvable[verdict] ?? 0, "cell")}`}
              checked={taken.includes(verdict)}
              onChange={(on) =>
                setTaken((before) => (on ? [...before, verdict] : before.filter((one) => one !== verdict)))
              }
            />
          ))}
        </fieldset>
      )}
      <p className="text-quiet">{leftOut(renders, offered.length > 0)}</p>
      {offered.length > 0 && (
        <label className="grid gap-1">
          <span>
            Why <span className="text-quiet">(kept with the decision)</span>
          </span>
          <textarea
            rows={2}
            maxLength={2000}
            value={why}
            onChange={(event) => setWhy(event.target.value)}
            className={`py-2 ${FIELD}`}
          />
        </label>
      )}
      {approve.error && <p role="alert">{approve.error.message}</p>}
      <div className="flex justify-end gap-2">
        <Button onClick={onClose}>{offered.length > 0 ? "Cancel" : "Close"}</Button>
        {offered.length > 0 && (
          <Button look="main" type="submit" disabled={expected === 0 || approve.isPending}>
            {expected > 0 ? `Approve ${count(expected, "cell")}` : "Approve"}
          </Button>
        )}
      </div>
    </form>
  );
}

/** What cannot be approved or need not be, and why. */
function leftOut(renders: RendersOfBuild, some: boolean): string {
  const parts = [
    renders.current > 0 && `${count(renders.current, "is", "are")} the reference already`,
    renders.unfit > 0 && `${renders.unfit} failed integrity`,
    renders.without_reading > 0 && `${count(renders.without_reading, "has", "have")} no reading`,
  ].filter((part) => part !== false);
  if (parts.length === 0)
    return some ? "The newest render of every case and condition counts." : "It has rendered nothing yet.";
  return `${some ? "Left out" : "Nothing to approve"}: ${parts.join(", ")}.`;
}

function Done({
  act,
  cells,
  name,
  onClose,
}: {
  act: number;
  cells: number;
  name: string;
  onClose: () => void;
}) {
  const undo = useUndo();
  return (
    <>
      <p role="status">
        {undo.data
          ? `Undone: the references are what they were before.`
          : `${count(cells, "reference")} of ${name}. Cells that are compared with them are judged again.`}
      </p>
      {undo.error && <p role="alert">{undo.error.message}</p>}
      <div className="flex justify-end gap-2">
        {!undo.data && (
          <Button disabled={undo.isPending} onClick={() => undo.mutate(act)}>
            Undo
          </Button>
        )}
        <Button look="main" onClick={onClose}>
          Close
        </Button>
      </div>
    </>
  );
}
