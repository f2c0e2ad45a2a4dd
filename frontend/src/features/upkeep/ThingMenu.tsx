import { DropdownMenu } from "radix-ui";
import { type FormEvent, useState } from "react";
import type { Role } from "../../api/me";
import { useCan } from "../../api/me";
import { Asking } from "../../ui/Asking";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
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
const ITEM =
  "cursor-pointer rounded px-2 py-1.5 outline-none data-[highlighted]:bg-ground data-[disabled]:cursor-default data-[disabled]:text-quiet";

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
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger
          aria-label={`${called}: actions`}
          className="h-7 rounded-md px-2 font-semibold text-quiet hover:bg-ground hover:text-text data-[state=open]:bg-ground"
        >
          <span aria-hidden="true">···</span>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            sideOffset={4}
            className="z-30 min-w-36 rounded-md border border-line bg-sheet p-1 text-sm shadow-lg"
          >
            {thing.kind !== "run" && thing.keepsName === undefined && (
              <DropdownMenu.Item className={ITEM} onSelect={() => setAsked("rename")}>
                Rename…
              </DropdownMenu.Item>
            )}
            {thing.build && (
              <>
                <DropdownMenu.Item className={ITEM} onSelect={() => setAsked("note")}>
                  Note…
                </DropdownMenu.Item>
                <DropdownMenu.Item
                  className={ITEM}
                  disabled={!thing.build.above}
                  onSelect={() => move("later")}
                >
                  Move up
                </DropdownMenu.Item>
                <DropdownMenu.Item
                  className={ITEM}
                  disabled={!thing.build.below}
                  onSelect={() => move("earlier")}
                >
                  Move down
                </DropdownMenu.Item>
              </>
            )}
            {thing.more?.map((one) => (
              <DropdownMenu.Item key={one.label} className={ITEM} onSelect={one.onSelect}>
                {one.label}
              </DropdownMenu.Item>
            ))}
            <DropdownMenu.Item className={ITEM} onSelect={turn}>
              {thing.archived ? "Bring back" : "Archive"}
            </DropdownMenu.Item>
            {(thing.kind === "run" || (thing.kind === "build" && thing.keepsName === undefined)) && (
              <DropdownMenu.Item className={ITEM} onSelect={() => setAsked("delete")}>
                Delete…
              </DropdownMenu.Item>
            )}
            {thing.keepsName !== undefined && (
              <p className="max-w-56 px-2 py-1.5 text-xs text-quiet">{thing.keepsName}</p>
            )}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
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
