import { type FormEvent, useState } from "react";
import type { Role } from "../../api/me";
import { useCan } from "../../api/me";
import { Asking } from "../../ui/Asking";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
import { Menu, type MenuItem } from "../../ui/Menu";
import { type Kind, useChange, useRemove } from "./queries";

interface Thing {
  kind: Kind;
  id: number;
  /** How it is called; of a host without its version. */
  name: string;
  version?: string;
  archived: boolean;
  /** Why it keeps its name, where it does. */
  keepsName?: string;
  /** Of a build: what is said of it, and whether another stands above and below it in the list. */
  build?: { note: string; above: boolean; below: boolean };
  /** What else can be done with it. */
  more?: { label: string; onSelect: () => void }[];
}

const NEEDS: Record<Kind, Role> = {
  effect: "keep",
  host: "keep",
  build: "work",
  setting: "work",
  plan: "work",
  run: "work",
};

/** Actions with something that is under test: another name, out of the lists, or gone. */
export function ThingMenu(thing: Thing) {
  const may = useCan(NEEDS[thing.kind]);
  const [asked, setAsked] = useState<"rename" | "note" | "delete" | "problem">();
  const change = useChange(thing.kind, thing.id);
  const full = thing.version === undefined ? thing.name : `${thing.name} ${thing.version}`;
  // A run is called by its number already.
  const called = thing.kind === "run" ? full : `${thing.kind} ${full}`;
  if (!may) return null;
  const turn = () => change.mutate({ archived: !thing.archived }, { onError: () => setAsked("problem") });
  const move = (to: "earlier" | "later") =>
    change.mutate({ move: to }, { onError: () => setAsked("problem") });
  const { build, keepsName, more = [] } = thing;
  const act = (label: string, onSelect: () => void, disabled = false): MenuItem => ({
    kind: "act",
    label,
    onSelect,
    disabled,
  });
  const items: MenuItem[] = [
    ...(thing.kind !== "run" && keepsName === undefined ? [act("Rename…", () => setAsked("rename"))] : []),
    ...(build
      ? [
          act("Note…", () => setAsked("note")),
          act("Move up", () => move("later"), !build.above),
          act("Move down", () => move("earlier"), !build.below),
        ]
      : []),
    ...more.map(({ label, onSelect }) => act(label, onSelect)),
    act(thing.archived ? "Bring back" : "Archive", turn),
    ...(thing.kind === "run" || (thing.kind === "build" && keepsName === undefined)
      ? [act("Delete…", () => setAsked("delete"))]
      : []),
    ...(keepsName !== undefined ? [{ kind: "words", label: keepsName } as const] : []),
  ];
  return (
    <>
      <Menu
        name={`${called}: actions`}
        className="h-7 rounded-md px-2 font-semibold text-quiet hover:bg-ground hover:text-text data-[state=open]:bg-ground"
        align="end"
        items={items}
      >
        <span aria-hidden="true">···</span>
      </Menu>
      {asked === "rename" && <Rename thing={thing} called={called} onClose={() => setAsked(undefined)} />}
      {asked === "note" && thing.build && (
        <Note id={thing.id} note={thing.build.note} called={called} onClose={() => setAsked(undefined)} />
      )}
      {asked === "delete" && (thing.kind === "build" || thing.kind === "run") && (
        <Delete kind={thing.kind} id={thing.id} called={called} onClose={() => setAsked(undefined)} />
      )}
      {asked === "problem" && change.error && (
        <Asking title={`Could not change ${called}`} onClose={() => setAsked(undefined)}>
          <p role="alert">{change.error.message}</p>
          <Button onClick={() => setAsked(undefined)}>Close</Button>
        </Asking>
      )}
    </>
  );
}

function Rename({ thing, called, onClose }: { thing: Thing; called: string; onClose: () => void }) {
  const change = useChange(thing.kind, thing.id);
  const [name, setName] = useState(thing.name);
  const [version, setVersion] = useState(thing.version ?? "");
  const same = name.trim() === thing.name && version.trim() === (thing.version ?? "");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const named = { name: name.trim(), ...(thing.version === undefined ? {} : { version: version.trim() }) };
    change.mutate(named, { onSuccess: onClose });
  };
  return (
    <Asking title={`Rename ${called}`} onClose={onClose}>
      <form onSubmit={submit} className="grid gap-4">
        <Labelled
          label="Name"
          value={name}
          maxLength={120}
          required
          onChange={(event) => setName(event.target.value)}
        />
        {thing.version !== undefined && (
          <Labelled
            label="Version"
            value={version}
            maxLength={40}
            required
            onChange={(event) => setVersion(event.target.value)}
          />
        )}
        {change.error && <p role="alert">{change.error.message}</p>}
        <div className="flex gap-2">
          <Button type="submit" look="main" disabled={change.isPending || same || name.trim() === ""}>
            Rename
          </Button>
          <Button onClick={onClose}>Cancel</Button>
        </div>
      </form>
    </Asking>
  );
}

function Note({
  id,
  note: before,
  called,
  onClose,
}: {
  id: number;
  note: string;
  called: string;
  onClose: () => void;
}) {
  const change = useChange("build", id);
  const [note, setNote] = useState(before);
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate({ note: note.trim() }, { onSuccess: onClose });
  };
  return (
    <Asking title={`Note of ${called}`} onClose={onClose}>
      <form onSubmit={submit} className="grid gap-4">
        <Labelled
          label="Note"
          value={note}
          maxLength={400}
          onChange={(event) => setNote(event.target.value)}
        />
        {change.error && <p role="alert">{change.error.message}</p>}
        <div className="flex gap-2">
          <Button type="submit" look="main" disabled={change.isPending || note.trim() === before}>
            Save
          </Button>
          <Button onClick={onClose}>Cancel</Button>
        </div>
      </form>
    </Asking>
  );
}

function Delete({
  kind,
  id,
  called,
  onClose,
}: {
  kind: "build" | "run";
  id: number;
  called: string;
  onClose: () => void;
}) {
  const remove = useRemove(kind, id);
  return (
    <Asking title={`Delete ${called}?`} onClose={onClose}>
      <p className="text-quiet">
        {kind === "run"
          ? "Its cells go, and the renders that no other run has. This cannot be undone."
          : "Only a build that was never run can be deleted. This cannot be undone."}
      </p>
      {remove.error && <p role="alert">{remove.error.message}</p>}
      <div className="flex gap-2">
        <Button
          look="main"
          disabled={remove.isPending}
          onClick={() => remove.mutate(undefined, { onSuccess: onClose })}
        >
          Delete
        </Button>
        <Button onClick={onClose}>Cancel</Button>
      </div>
    </Asking>
  );
}
