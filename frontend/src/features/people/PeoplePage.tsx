import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { BASE } from "../../api/base";
import type { Person } from "../../api/client";
import { Button, Sentence, Word } from "../../ui/controls";
import { count, dateTime } from "../../ui/numbers";
import { Empty, Failed, Loading } from "../../ui/states";
import { HEAD, ROW } from "../../ui/table";
import { useCan } from "./me";
import { ROLE_WORDS } from "./PersonMenu";
import { peopleQuery, type Role, useAddPerson, useChangePerson, useResetPerson } from "./queries";
import { Tokens } from "./Tokens";
import { type Secret, Told } from "./Told";

const ROLES = (["look", "work", "keep"] as const).map((role) => ({
  value: role,
  label: role,
  detail: ROLE_WORDS[role],
}));

/** Who may come in, and how far; and what programs come in by. */
export function PeoplePage() {
  const keeps = useCan("keep");
  const people = useQuery({ ...peopleQuery, enabled: keeps });
  const [told, setTold] = useState<Secret>();
  if (!keeps)
    return (
      <Empty title="People are not yours to keep.">
        Only who has the role keep sees and changes accounts and tokens.
      </Empty>
    );
  if (people.isPending) return <Loading what="the people" />;
  if (!people.data) return <Failed error={people.error} onRetry={() => people.refetch()} />;
  return (
    <div className="overflow-auto pb-8">
      <div className="flex flex-wrap items-center gap-4 px-5 pt-4 pb-3">
        <AddPerson onTold={setTold} />
      </div>
      {told && <Told secret={told} onClose={() => setTold(undefined)} />}
      <table className="w-full border-t border-line">
        <caption className="sr-only">{count(people.data.people.length, "account")}, by name</caption>
        <thead className={HEAD}>
          <tr>
            <th scope="col">Person</th>
            <th scope="col">Role</th>
            <th scope="col">Last signed in</th>
            <th scope="col">Added</th>
            <th scope="col">
              <span className="sr-only">What can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {people.data.people.map((person) => (
            <PersonRow key={person.id} person={person} onTold={setTold} />
          ))}
        </tbody>
      </table>
      <Tokens onTold={setTold} />
    </div>
  );
}

function AddPerson({ onTold }: { onTold: (secret: Secret) => void }) {
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("work");
  const add = useAddPerson();
  return (
    <form
      className="flex flex-wrap items-center gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate(
          { name, role },
          {
            onSuccess: (made) => {
              setName("");
              onTold(linkOf(made));
            },
          },
        );
      }}
    >
      <Sentence>
        Let{" "}
        <input
          aria-label="Name of the person"
          placeholder="a name"
          required
          maxLength={80}
          value={name}
          onChange={(event) => setName(event.target.value)}
          className="w-48 border-b-2 border-line bg-transparent font-semibold placeholder:font-light placeholder:text-quiet hover:border-quiet"
        />{" "}
        in, to <Word name="Role" value={role} choices={ROLES} onChoose={(value) => setRole(value as Role)} />.
      </Sentence>
      <Button look="main" type="submit" disabled={add.isPending || name.trim() === ""}>
        Make the account
      </Button>
      {add.error && <p role="alert">{add.error.message}</p>}
    </form>
  );
}

function PersonRow({ person, onTold }: { person: Person; onTold: (secret: Secret) => void }) {
  const change = useChangePerson();
  const reset = useResetPerson();
  const shut = person.disabled_at !== null;
  const error = change.error ?? reset.error;
  return (
    <tr className={ROW}>
      <td className={shut ? "text-quiet" : "font-semibold"}>{person.name}</td>
      <td>
        {shut ? (
          <span className="text-quiet">disabled</span>
        ) : (
          <Word
            name={`Role of ${person.name}`}
            value={person.role}
            choices={ROLES}
            onChoose={(role) => change.mutate({ id: person.id, role: role as Role })}
          />
        )}
      </td>
      <td className="whitespace-nowrap">
        {person.signed_in_at ? dateTime(person.signed_in_at) : <span className="text-quiet">never</span>}
        {!person.has_password && !shut && <p className="text-xs text-quiet">Has no password yet</p>}
      </td>
      <td className="whitespace-nowrap text-quiet">
        {dateTime(person.made_at)}, by {person.made_by}
      </td>
      <td>
        <div className="flex items-center justify-end gap-2">
          {error && (
            <p role="alert" className="text-right">
              {error.message}
            </p>
          )}
          {!shut && (
            <Button
              small
              disabled={reset.isPending}
              onClick={() => reset.mutate(person.id, { onSuccess: (made) => onTold(linkOf(made)) })}
            >
              New link
            </Button>
          )}
          <Button
            small
            disabled={change.isPending}
            onClick={() => change.mutate({ id: person.id, disabled: !shut })}
          >
            {shut ? "Let in again" : "Disable"}
          </Button>
        </div>
      </td>
    </tr>
  );
}

const linkOf = (made: { person: Person; link: string }): Secret => ({
  what: `This link lets ${made.person.name} in once, within seven days, to choose a password.`,
  text: `${window.location.origin}${BASE}${made.link}`,
});
