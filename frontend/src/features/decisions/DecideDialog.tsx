import { useRef, useState } from "react";
import { type DecisionKind, Problem } from "../../api/client";
import { useCan } from "../../api/me";
import { Asking } from "../../ui/Asking";
import { Button } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { RadioGroup } from "../../ui/RadioGroup";
import { useDecide } from "./queries";

interface Props {
  cells: number[];
  what: string;
  first: DecisionKind;
  /** The last act that the page knows of; a later one on the same cells is a conflict. */
  seen: number;
  onClose: () => void;
  onDone: () => void;
}

const KINDS: { kind: DecisionKind; label: string; means: string }[] = [
  {
    kind: "reference",
    label: "Approve as references",
    means: "Right, and later builds are compared with these renders. What they replace is kept.",
  },
  {
    kind: "accepted",
    label: "Accept for this build",
    means: "The difference may be there; the references stay as they are.",
  },
  {
    kind: "fault",
    label: "Record a fault",
    means: "The effect or the host is wrong. Recorded once, here.",
  },
  {
    kind: "waived",
    label: "Waive until a day",
    means: "Known, and accepted until a day. Holds in later builds too, as long as nothing else breaks.",
  },
];

const IN_DAYS = 60;
const DAY_MS = 24 * 60 * 60 * 1000;

/** Who decides what, and why. A refusal is shown here, and nothing that was typed is lost. */
export function DecideDialog({ cells, what, first, seen, onClose, onDone }: Props) {
  const mayApprove = useCan("keep");
  const kinds = KINDS.filter((one) => one.kind !== "reference" || mayApprove);
  const [kind, setKind] = useState<DecisionKind>(first === "reference" && !mayApprove ? "accepted" : first);
  const [why, setWhy] = useState("");
  const [ticket, setTicket] = useState("");
  const [until, setUntil] = useState(() =>
    new Date(Date.now() + IN_DAYS * DAY_MS).toISOString().slice(0, 10),
  );
  const [opened] = useState(seen);
  const startHere = useRef<HTMLButtonElement>(null);
  const decide = useDecide();
  const overtaken = decide.error instanceof Problem && decide.error.title === "DecidedMeanwhile";
  const submit = () => {
    const ticketed = kind === "fault" || kind === "waived";
    decide.mutate(
      {
        cell_ids: cells,
        kind,
        why,
        ticket: ticketed ? ticket.trim() : "",
        until: kind === "waived" ? until : null,
        // Told of it once, a person who decides again means it: the page has looked anew since.
        seen: overtaken ? seen : opened,
      },
      {
        onSuccess: () => {
          onDone();
          onClose();
        },
      },
    );
  };
  return (
    <Asking
      title="Decide"
      about={`${what}. One undo takes it all back.`}
      width="w-[34rem]"
      startHere={startHere}
      onClose={onClose}
    >
      <form
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          submit();
        }}
      >
        <RadioGroup
          name="What is decided"
          value={kind}
          ways={kinds.map((one) => ({
            value: one.kind,
            label: <b className="font-semibold">{one.label}</b>,
            about: kind === one.kind ? <span className="text-sm">{one.means}</span> : undefined,
          }))}
          onChoose={setKind}
          startHere={startHere}
        />
        {(kind === "fault" || kind === "waived") && (
          <div className={`grid gap-3 ${kind === "waived" ? "grid-cols-[1fr_11rem]" : ""}`}>
            <label className="grid gap-1">
              <span>
                Ticket <span className="text-quiet">(its number or address)</span>
              </span>
              <input
                maxLength={400}
                value={ticket}
                onChange={(event) => setTicket(event.target.value)}
                className={`h-9 ${FIELD}`}
              />
            </label>
            {kind === "waived" && (
              <label className="grid gap-1">
                <span>Last day</span>
                <input
                  type="date"
                  required
                  min={new Date().toISOString().slice(0, 10)}
                  value={until}
                  onChange={(event) => setUntil(event.target.value)}
                  className={`h-9 ${FIELD}`}
                />
              </label>
            )}
          </div>
        )}
        <label className="grid gap-1">
          <span>
            Why{" "}
            <span className="text-quiet">
              {kind === "waived" ? "(a waiver needs a reason)" : "(kept with the decision)"}
            </span>
          </span>
          <textarea
            rows={3}
            maxLength={2000}
            required={kind === "waived"}
            value={why}
            onChange={(event) => setWhy(event.target.value)}
            className={`py-2 ${FIELD}`}
          />
        </label>
        {decide.error && <p role="alert">{decide.error.message}</p>}
        <div className="mt-1 flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button look="main" type="submit" disabled={decide.isPending}>
            {overtaken ? "Decide anyway" : (KINDS.find((one) => one.kind === kind)?.label ?? "Decide")}
          </Button>
        </div>
      </form>
    </Asking>
  );
}
