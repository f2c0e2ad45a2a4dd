import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Host, Machine, NewHost } from "../../api/client";
import { Check } from "../../ui/Checkbox";
import { Collapsible } from "../../ui/Collapsible";
import { Button, Sentence } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { count, dateTime } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { ACTIONS, Table } from "../../ui/Table";
import { useSay } from "../../ui/Toast";
import { useAddEffect } from "../effects/queries";
import { ArchivedMark, useShown } from "../upkeep/Archived";
import { ThingMenu } from "../upkeep/ThingMenu";
import { hostsQuery, useAddHost, useApproveMachine, useLookAgain } from "./queries";

export function HostsPage() {
  const hosts = useQuery(hostsQuery);
  if (hosts.isPending) return <Loading what="the hosts" />;
  if (!hosts.data) return <Failed error={hosts.error} onRetry={() => hosts.refetch()} />;
  const { hosts: all, machines } = hosts.data;
  const names = new Set(all.map((host) => host.name));
  const working = machines.filter(
    (machine) => machine.at_work > 0 && machine.renderers.some((renderer) => renderer.hosts.length > 0),
  ).length;
  const waits = machines
    .filter(({ unapproved }) => unapproved && unapproved.hosts.length + unapproved.effects.length > 0)
    .map((machine) => machine.name);
  return (
    <div className="overflow-auto pb-8">
      <Stale error={hosts.error} />
      <div className="px-5 pt-3 pb-2">
        <Sentence>
          {count(names.size, "host")} in {count(all.length, "version")}, rendered by{" "}
          {count(working, "running machine")}
          {waits.length > 0 && (
            <>
              {"; "}
              <a href="#machines" className="font-semibold underline decoration-line hover:decoration-text">
                {waits.join(", ")}
              </a>{" "}
              {waits.length === 1 ? "waits" : "wait"} for approval
            </>
          )}
          .
        </Sentence>
      </div>
      {all.length === 0 ? (
        <Empty title="No hosts yet.">
          Start a worker on a machine that can render, and its hosts appear here; or add one that people
          render in by hand.
        </Empty>
      ) : (
        <HostTable hosts={all} />
      )}
      <AddHost />
      <Machines machines={machines} />
    </div>
  );
}

function HostTable({ hosts }: { hosts: Host[] }) {
  const { shown, box } = useShown(hosts);
  return (
    <>
      <HostRows hosts={shown} />
      {box && <p className="border-t border-line px-5 py-2">{box}</p>}
    </>
  );
}

function HostRows({ hosts }: { hosts: Host[] }) {
  return (
    <Table caption="Hosts" columns={["Host", "Modes", "Rendered by", "Waiting runs", ACTIONS]}>
      {hosts.map((host) => (
        <tr key={`${host.name} ${host.version}`}>
          <td>
            <b className="font-semibold">
              {host.name} {host.version}
            </b>
            {host.archived && <ArchivedMark />} <span className="pl-2 text-quiet">{host.description}</span>
          </td>
          <td className="whitespace-nowrap">{host.modes.join(", ")}</td>
          <td>
            <RenderedBy host={host} />
          </td>
          <td>
            <Waiting host={host} />
          </td>
          <td className="w-14 py-1! text-right">
            <ThingMenu
              kind="host"
              id={host.id}
              name={host.name}
              version={host.version}
              archived={host.archived}
              {...(host.by_hand ? {} : { keepsName: "Its machine gives it its name." })}
            />
          </td>
        </tr>
      ))}
    </Table>
  );
}

function RenderedBy({ host }: { host: Host }) {
  if (host.by_hand) return <>people, with a kit</>;
  return (
    <>
      {host.renderer}{" "}
      <span className={host.machines.length > 0 ? "text-quiet" : "font-medium"}>
        {host.machines.length > 0 ? `on ${host.machines.join(", ")}` : "on no running machine"}
      </span>
    </>
  );
}

const LISTED = 3;

function Waiting({ host }: { host: Host }) {
  if (host.waiting.length === 0) return <span className="text-quiet">nothing</span>;
  const renders = host.waiting.reduce((sum, run) => sum + run.cells, 0);
  const more = host.waiting.length - LISTED;
  return (
    <>
      <p className="font-semibold">{count(renders, "render")}</p>
      <ul className="text-quiet">
        {host.waiting.slice(0, LISTED).map((run) => (
          <li key={run.run_id}>
            {run.cells} of{" "}
            <Link
              to={host.by_hand ? `/runs/${run.run_id}/kit` : `/runs/${run.run_id}`}
              className="text-text underline decoration-line hover:decoration-text"
            >
              {run.effect} {run.version}, {run.plan}
            </Link>
            {host.by_hand && ": open the kit"}
          </li>
        ))}
        {more > 0 && <li>and {count(more, "run")} more</li>}
      </ul>
    </>
  );
}

type Mode = NewHost["modes"][number];
const MODES: Mode[] = ["real time", "offline"];
const BOX = "h-9 w-full rounded border border-quiet bg-sheet px-2";

function AddHost() {
  const add = useAddHost();
  const [name, setName] = useState("");
  const [version, setVersion] = useState("");
  const [description, setDescription] = useState("");
  const [modes, setModes] = useState<Mode[]>(["real time"]);
  const ready = name.trim() !== "" && version.trim() !== "" && modes.length > 0;
  const begin = () =>
    add.mutate(
      { name: name.trim(), version: version.trim(), description: description.trim(), modes },
      {
        onSuccess: () => {
          setName("");
          setVersion("");
          setDescription("");
        },
      },
    );
  return (
    <Form
      title="A host rendered by hand"
      about="Its cells wait until a person has rendered them with a kit. Every other host comes with the machine that has it."
      error={add.error}
      onSubmit={begin}
    >
      <Fields>
        <label className="w-48">
          <span className="block text-xs text-quiet">Name</span>
          <input
            value={name}
            onChange={(event) => setName(event.target.value)}
            maxLength={60}
            className={BOX}
          />
        </label>
        <label className="w-28">
          <span className="block text-xs text-quiet">Version</span>
          <input
            value={version}
            onChange={(event) => setVersion(event.target.value)}
            maxLength={40}
            className={BOX}
          />
        </label>
        <label className="w-72">
          <span className="block text-xs text-quiet">What it is</span>
          <input
            value={description}
            onChange={(event) => setDescription(event.target.value)}
            maxLength={200}
            className={BOX}
          />
        </label>
        <fieldset className="flex gap-4 pb-2">
          <legend className="sr-only">Modes</legend>
          {MODES.map((mode) => (
            <Check
              key={mode}
              label={mode}
              checked={modes.includes(mode)}
              onChange={(on) => setModes(on ? [...modes, mode] : modes.filter((one) => one !== mode))}
            />
          ))}
        </fieldset>
        <Button type="submit" needs="keep" disabled={!ready || add.isPending}>
          Add the host
        </Button>
      </Fields>
    </Form>
  );
}

function Machines({ machines }: { machines: Machine[] }) {
  return (
    <section id="machines" className="border-t border-line">
      <h2 className="px-5 pt-4 pb-2 font-semibold">Machines</h2>
      {machines.length === 0 ? (
        <Empty title="No worker has been seen.">
          On any machine that reaches this database, run kind-echo worker; with --renderer it takes the jobs
          of one renderer alone.
        </Empty>
      ) : (
        machines.map((machine) => <MachineRow key={machine.name} machine={machine} />)
      )}
    </section>
  );
}

function MachineRow({ machine }: { machine: Machine }) {
  const add = useAddEffect();
  const { at_work, silent } = machine;
  return (
    <article className="grid gap-x-6 gap-y-2 border-t border-line bg-sheet px-5 py-3 lg:grid-cols-[16rem_minmax(0,1fr)]">
      <div>
        <h3 className="font-semibold break-all">{machine.name}</h3>
        <p className={at_work > 0 ? "text-quiet" : "font-medium"}>
          {at_work > 0 ? `${count(at_work, "worker")} running` : `Silent since ${dateTime(machine.seen_at)}`}
          {at_work > 0 && silent > 0 && `, ${silent} silent`}
        </p>
        <p className="text-quiet">since {dateTime(machine.started_at)}</p>
        <LookAgain machine={machine} />
      </div>
      <ul className="min-w-0 space-y-2">
        {machine.renderers.map((renderer) => (
          <li key={renderer.queue}>
            <b className="font-semibold">{renderer.queue}</b>{" "}
            <span className="text-quiet">{renderer.description}</span>
            <p>
              <span className="text-quiet">Hosts:</span> {renderer.hosts.join(", ") || "none so far"}
            </p>
            <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
              <span className="text-quiet">Effects:</span>
              {renderer.effects.map((effect) =>
                effect.known ? (
                  <span key={effect.name}>{effect.name}</span>
                ) : (
                  <span key={effect.name} className="inline-flex items-center gap-1.5">
                    {effect.name}
                    <Button
                      needs="keep"
                      className="h-7 px-2 text-xs"
                      disabled={add.isPending || at_work === 0}
                      aria-label={`Test it: ${effect.name}`}
                      onClick={() => add.mutate({ name: effect.name })}
                    >
                      Test it
                    </Button>
                  </span>
                ),
              )}
              {renderer.effects.length === 0 && "none"}
            </p>
            {renderer.accepts && <p className="text-quiet">It also runs builds that are uploaded.</p>}
            <NotOffered renderer={renderer} />
          </li>
        ))}
        {add.error && <li role="alert">{add.error.message}</li>}
        {machine.unapproved && <Unapproved machine={machine.name} held={machine.unapproved} />}
      </ul>
    </article>
  );
}

function LookAgain({ machine }: { machine: Machine }) {
  const look = useLookAgain();
  const say = useSay();
  return (
    <div className="mt-2">
      <Button
        needs="work"
        className="h-7 px-2 text-xs"
        disabled={look.isPending || machine.at_work === 0}
        aria-label={`Scan again: ${machine.name}`}
        onClick={() =>
          look.mutate(machine.name, { onSuccess: () => say(`${machine.name} scans its plug-ins again now.`) })
        }
      >
        Scan again
      </Button>
      {look.error && <p role="alert">{look.error.message}</p>}
    </div>
  );
}

/** Files that a renderer looked at and could not load, each with the reason; folded away, for most are nobody's concern. */
function NotOffered({ renderer }: { renderer: Machine["renderers"][number] }) {
  if (renderer.failed.length === 0) return null;
  return (
    <Collapsible className="mt-1" title={`Not offered: ${count(renderer.failed.length, "file")}`}>
      <dl className="mt-1 grid gap-x-4 gap-y-1 border-l-2 border-line pl-3 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        {renderer.failed.map((one) => (
          <div key={`${one.file} ${one.reason}`} className="contents">
            <dt className="break-all">{one.file}</dt>
            <dd className="text-quiet">{one.reason}</dd>
          </div>
        ))}
      </dl>
    </Collapsible>
  );
}

/** What a machine offers and may not render: an administrator approves it once; what collides is never taken over. */
function Unapproved({ machine, held }: { machine: string; held: NonNullable<Machine["unapproved"]> }) {
  const approve = useApproveMachine();
  const waits = [...held.hosts, ...held.effects];
  return (
    <li className="border-l-2 border-text pl-3">
      {waits.length > 0 && (
        <p className="flex flex-wrap items-center gap-x-3 gap-y-1">
          <span>
            <b className="font-semibold">Waits for approval:</b> {waits.join(", ")}
          </span>
          <Button
            needs="keep"
            className="h-7 px-2 text-xs"
            disabled={approve.isPending}
            aria-label={`Approve ${machine}`}
            onClick={() => approve.mutate(machine)}
          >
            Approve
          </Button>
        </p>
      )}
      {held.collisions.map((collision) => (
        <p key={collision} className="text-quiet">
          Not taken: {collision}.
        </p>
      ))}
      {approve.error && <p role="alert">{approve.error.message}</p>}
    </li>
  );
}
