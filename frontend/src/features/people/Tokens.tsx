import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Token } from "../../api/client";
import { Button } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { Labelled, LabelledChoice } from "../../ui/fields";
import { dateTime } from "../../ui/numbers";
import { Empty, Failed, Loading } from "../../ui/states";
import { ACTIONS, Table } from "../../ui/Table";
import { tokensQuery, useMakeToken, useRevokeToken } from "./queries";
import type { Secret } from "./ShownOnce";

const SCOPES: { value: Token["scope"]; label: string; detail: string }[] = [
  { value: "read", label: "read", detail: "runs, readings, audio" },
  { value: "submit", label: "submit", detail: "builds and runs, and read" },
  { value: "upload", label: "upload", detail: "plug-ins that machines run, and submit" },
  { value: "render", label: "render", detail: "take a renderer's jobs" },
];
const DAYS = [7, 30, 90, 365, 730];

/** The tokens of build servers and render machines. */
export function Tokens({ onSecret }: { onSecret: (secret: Secret) => void }) {
  const tokens = useQuery(tokensQuery);
  return (
    <section aria-label="Tokens" className="mt-8 border-t border-line">
      <MakeToken onSecret={onSecret} />
      {tokens.isPending ? (
        <Loading what="the tokens" />
      ) : !tokens.data ? (
        <Failed error={tokens.error} onRetry={() => tokens.refetch()} />
      ) : tokens.data.tokens.length === 0 ? (
        <Empty title="No tokens yet.">
          A build server needs a token to register builds and start runs; a render machine, to take jobs.
        </Empty>
      ) : (
        <Table
          caption="Tokens, newest first"
          columns={["Token", "Scope", "Last used", "Expires", "Made", ACTIONS]}
        >
          {tokens.data.tokens.map((token) => (
            <TokenRow key={token.id} token={token} />
          ))}
        </Table>
      )}
    </section>
  );
}

function MakeToken({ onSecret }: { onSecret: (secret: Secret) => void }) {
  const [name, setName] = useState("");
  const [scope, setScope] = useState<Token["scope"]>("submit");
  const [days, setDays] = useState(90);
  const make = useMakeToken();
  return (
    <Form
      title="Make a token"
      about="For a build server or a render machine."
      className="px-5 pt-4 pb-4"
      error={make.error}
      onSubmit={() => {
        make.mutate(
          { name, scope, days },
          {
            onSuccess: (made) => {
              setName("");
              onSecret({ what: `The token ${made.token.name}.`, text: made.secret });
            },
          },
        );
      }}
    >
      <Fields>
        <Labelled
          label="Program"
          placeholder="nightly builds"
          required
          maxLength={80}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <LabelledChoice
          label="Scope"
          value={scope}
          choices={SCOPES}
          onChoose={(value) => setScope(SCOPES.find((one) => one.value === value)?.value ?? "read")}
        />
        <LabelledChoice
          label="Valid for"
          value={String(days)}
          choices={DAYS.map((one) => ({ value: String(one), label: `${one} days` }))}
          onChoose={(value) => setDays(Number(value))}
        />
        <Button type="submit" disabled={make.isPending || name.trim() === ""}>
          Make
        </Button>
      </Fields>
    </Form>
  );
}

function TokenRow({ token }: { token: Token }) {
  const revoke = useRevokeToken();
  const ended = token.revoked_at !== null || Date.parse(token.ends_at) < Date.now();
  return (
    <tr>
      <td className={ended ? "text-quiet" : "font-semibold"}>{token.name}</td>
      <td>{SCOPES.find((one) => one.value === token.scope)?.label}</td>
      <td className="whitespace-nowrap">
        {token.used_at ? dateTime(token.used_at) : <span className="text-quiet">never</span>}
      </td>
      <td className="whitespace-nowrap">
        {token.revoked_at
          ? `${dateTime(token.revoked_at)}, revoked by ${token.revoked_by}`
          : dateTime(token.ends_at)}
      </td>
      <td className="whitespace-nowrap text-quiet">
        {dateTime(token.made_at)}, by {token.made_by}
      </td>
      <td className="text-right">
        {revoke.error && <p role="alert">{revoke.error.message}</p>}
        {!ended && (
          <Button small disabled={revoke.isPending} onClick={() => revoke.mutate(token.id)}>
            Revoke
          </Button>
        )}
      </td>
    </tr>
  );
}
