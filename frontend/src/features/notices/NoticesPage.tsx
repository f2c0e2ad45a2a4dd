import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Notice, NoticeTarget } from "../../api/client";
import { useCan } from "../../api/me";
import { Check } from "../../ui/Checkbox";
import { Button } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { Labelled, LabelledChoice } from "../../ui/fields";
import { count, dateTime } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { ACTIONS, Table } from "../../ui/Table";
import { type Secret, ShownOnce } from "../people/ShownOnce";
import {
  noticesQuery,
  useAddTarget,
  useChangeTarget,
  useRemoveTarget,
  useTellAgain,
  useTryTarget,
} from "./queries";

type Topic = NoticeTarget["topics"][number];

const TOPICS: Record<Topic, string> = {
  "run.finished": "A run finished",
  "run.needs_review": "Cells need review",
  "decision.made": "A decision",
  "waiver.ending": "A waiver ends within a week",
};
const NAMES = Object.keys(TOPICS) as Topic[];
const KINDS = [
  { value: "webhook", label: "Webhook", detail: "JSON to a program, signed" },
  { value: "email", label: "Mail", detail: "text to a person" },
] as const;

/** Who is told of runs, decisions and waivers, and what was answered. */
export function NoticesPage() {
  const keeps = useCan("keep");
  const found = useQuery({ ...noticesQuery, enabled: keeps });
  const [secret, setSecret] = useState<Secret>();
  if (!keeps)
    return (
      <Empty title="You cannot manage notices.">Only administrators see and change where notices go.</Empty>
    );
  if (found.isPending) return <Loading what="the notices" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const { targets, notices } = found.data;
  return (
    <div className="overflow-auto pb-8">
      <Stale error={found.error} />
      <AddTarget onSecret={setSecret} />
      {secret && <ShownOnce secret={secret} onClose={() => setSecret(undefined)} />}
      {targets.length === 0 ? (
        <Empty title="No targets yet.">
          Add the address of a program that takes webhooks, or of a person's mail; what goes out is signed and
          is tried again for three days.
        </Empty>
      ) : (
        <Table
          caption={count(targets.length, "address", "addresses")}
          columns={["Address", "Topics", "Added", ACTIONS]}
        >
          {targets.map((target) => (
            <TargetRow key={target.id} target={target} />
          ))}
        </Table>
      )}
      {notices.length > 0 && (
        <section aria-label="Sent" className="mt-8">
          <h2 className="px-5 pb-1 text-lg font-semibold">Sent</h2>
          <Sent notices={notices} targets={targets} />
        </section>
      )}
    </div>
  );
}

function AddTarget({ onSecret }: { onSecret: (secret: Secret) => void }) {
  const [kind, setKind] = useState<NoticeTarget["kind"]>("webhook");
  const [address, setAddress] = useState("");
  const [topics, setTopics] = useState<Topic[]>(["run.needs_review"]);
  const add = useAddTarget();
  return (
    <Form
      title="Add a target"
      main
      className="px-5 pt-4 pb-4"
      error={add.error}
      onSubmit={() => {
        add.mutate(
          { kind, address, topics },
          {
            onSuccess: (made) => {
              setAddress("");
              if (made.secret)
                onSecret({
                  what: `The secret that notices to ${made.target.address} are signed with.`,
                  text: made.secret,
                  isKept: true,
                });
            },
          },
        );
      }}
    >
      <Fields>
        <LabelledChoice label="By" value={kind} choices={KINDS} onChoose={setKind} />
        <div className="w-96 [&_input]:w-full">
          <Labelled
            label="Address"
            type={kind === "email" ? "email" : "url"}
            placeholder={kind === "email" ? "name@example.org" : "https://example.org/hook"}
            required
            maxLength={2000}
            value={address}
            onChange={(event) => setAddress(event.target.value)}
          />
        </div>
        <Topics name="Topics" chosen={topics} onChange={setTopics} />
        <Button look="main" type="submit" disabled={add.isPending || topics.length === 0}>
          Add
        </Button>
      </Fields>
    </Form>
  );
}

function Topics({
  name,
  chosen,
  onChange,
}: {
  name: string;
  chosen: Topic[];
  onChange: (topics: Topic[]) => void;
}) {
  return (
    <fieldset className="flex flex-wrap items-center gap-x-4 gap-y-1 py-1.5">
      <legend className="sr-only">{name}</legend>
      {NAMES.map((topic) => (
        <Check
          key={topic}
          label={TOPICS[topic]}
          checked={chosen.includes(topic)}
          onChange={(on) => onChange(NAMES.filter((one) => (one === topic ? on : chosen.includes(one))))}
        />
      ))}
    </fieldset>
  );
}

function TargetRow({ target }: { target: NoticeTarget }) {
  const change = useChangeTarget();
  const remove = useRemoveTarget();
  const trial = useTryTarget();
  const paused = target.paused_at !== null;
  const error = change.error ?? remove.error ?? trial.error;
  const busy = change.isPending || remove.isPending || trial.isPending;
  return (
    <tr>
      <td className={`max-w-96 [overflow-wrap:anywhere] ${paused ? "text-quiet" : "font-semibold"}`}>
        {target.address}
        <p className="text-xs font-normal text-quiet">
          {target.kind === "email" ? "Mail" : "Webhook"}
          {paused && `, paused ${dateTime(target.paused_at ?? "")} by ${target.paused_by}`}
        </p>
      </td>
      <td>
        <Topics
          name={`Topics of ${target.address}`}
          chosen={target.topics}
          onChange={(topics) => topics.length > 0 && change.mutate({ id: target.id, topics })}
        />
      </td>
      <td className="whitespace-nowrap text-quiet">
        {dateTime(target.made_at)}, by {target.made_by}
      </td>
      <td>
        <div className="flex items-center justify-end gap-2">
          {error && <p role="alert">{error.message}</p>}
          <Button small disabled={busy || paused} onClick={() => trial.mutate(target.id)}>
            Try it
          </Button>
          <Button small disabled={busy} onClick={() => change.mutate({ id: target.id, paused: !paused })}>
            {paused ? "Resume" : "Pause"}
          </Button>
          <Button small disabled={busy} onClick={() => remove.mutate(target.id)}>
            Remove
          </Button>
        </div>
      </td>
    </tr>
  );
}

function Sent({ notices, targets }: { notices: Notice[]; targets: NoticeTarget[] }) {
  const addresses = new Map(targets.map((one) => [one.id, one.address]));
  const again = useTellAgain();
  return (
    <Table caption="The last notices, newest first" columns={["Notice", "To", "Made", "Answer", ACTIONS]}>
      {notices.map((notice) => (
        <tr key={notice.id}>
          <td>{notice.subject}</td>
          <td className="max-w-72 [overflow-wrap:anywhere] text-quiet">{addresses.get(notice.target_id)}</td>
          <td className="whitespace-nowrap text-quiet">{dateTime(notice.made_at)}</td>
          <td className="max-w-96 break-words">
            <b className="font-semibold">{stateText(notice)}</b>
            {notice.answer && <p className="text-xs text-quiet">{notice.answer}</p>}
          </td>
          <td className="text-right">
            {notice.state !== "sent" && (
              <Button small disabled={again.isPending} onClick={() => again.mutate(notice.id)}>
                Send now
              </Button>
            )}
          </td>
        </tr>
      ))}
    </Table>
  );
}

function stateText({ state, attempts, next_at }: Notice): string {
  if (state === "sent") return attempts > 1 ? `Delivered at attempt ${attempts}` : "Delivered";
  if (state === "failed") return attempts > 0 ? `Given up after ${count(attempts, "attempt")}` : "Not sent";
  return next_at ? `Failed ${count(attempts, "time")}; next ${dateTime(next_at)}` : "On its way";
}
