import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { BASE } from "../../api/base";
import type { Person } from "../../api/client";
import type { Role } from "../../api/me";
import { useCan } from "../../api/me";
import { Button, Word } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { Labelled, LabelledChoice } from "../../ui/fields";
import { count, dateTime } from "../../ui/numbers";
import { Empty, Failed, Loading } from "../../ui/states";
import { ACTIONS, Table } from "../../ui/Table";
import { ROLE_WORDS } from "../../ui/words";
import { peopleQuery, useAddPerson, useChangePerson, useResetPerson } from "./queries";
import { type Secret, ShownOnce } from "./ShownOnce";
import { Tokens } from "./Tokens";

const ROLES = (["look", "work", "keep"] as const).map((role) => ({
  value: role,
  label: ROLE_WORDS[role].title,
  detail: ROLE_WORDS[role].does,
}));

/** Accounts and their roles, and the tokens of programs. */
export function PeoplePage() {
  const keeps = useCan("keep");
  const people = useQuery({ ...peopleQuery, enabled: keeps });
  const [secret, setSecret] = useState<Secret>();
  if (!keeps)
    return (
      <Empty title="You cannot manage accounts.">
        Only administrators see and change accounts and tokens.
      </Empty>
    );
  if (people.isPending) return <Loading what="the people" />;
  if (!people.data) return <Failed error={people.error} onRetry={() => people.refetch()} />;
  return (
    <div className="overflow-auto pb-8">
      <AddPerson onSecret={setSecret} />
      {secret && <ShownOnce secret={secret} onClose={() => setSecret(undefined)} />}
      <Table
        caption={<>{count(people.data.people.length, "account")}, by name</>}
        columns={["Person", "Role", "Last signed in", "Added", ACTIONS]}
      >
        {people.data.people.map((person) => (
          <PersonRow key={person.id} person={person} onSecret={setSecret} />
        ))}
      </Table>
      <Tokens onSecret={setSecret} />
    </div>
  );
}

function AddPerson({ onSecret }: { onSecret: (secret: Secret) => void }) {
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("work");
  const add = useAddPerson();
  return (
    <Form
      title="Add a person"
      main
      className="px-5 pt-4 pb-4"
      error={add.error}
      onSubmit={() => {
        add.mutate(
          { name, role },
          {
            onSuccess: (made) => {
              setName("");
              onSecret(linkOf(made));
            },
          },
        );
      }}
    >
      <Fields>
        <Labelled
          label="Name"
          required
          maxLength={80}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <LabelledChoice
          label="Role"
          value={role}
          choices={ROLES}
          onChoose={(value) => setRole(value as Role)}
        />
        <Button look="main" type="submit" disabled={add.isPending || name.trim() === ""}>
          Add
        </Button>
      </Fields>
    </Form>
  );
}

function PersonRow({ person, onSecret }: { person: Person; onSecret: (secret: Secret) => void }) {
  const change = useChangePerson();
  const reset = useResetPerson();
  const shut = person.disabled_at !== null;
  const error = change.error ?? reset.error;
  return (
    <tr>
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
        {!person.has_password && !shut && <p className="text-xs text-quiet">No password yet</p>}
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
              onClick={() => reset.mutate(person.id, { onSuccess: (made) => onSecret(linkOf(made)) })}
            >
              New link
            </Button>
          )}
          <Button
            small
            disabled={change.isPending}
            onClick={() => change.mutate({ id: person.id, disabled: !shut })}
          >
            {shut ? "Enable" : "Disable"}
          </Button>
        </div>
      </td>
    </tr>
  );
}

const linkOf = (made: { person: Person; link: string }): Secret => ({
  what: `With this link ${made.person.name} can sign in once, within seven days, and choose a password.`,
  text: `${window.location.origin}${BASE}${made.link}`,
});
