import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { meQuery } from "../../api/me";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
import { useTheme } from "../../ui/theme";
import { NewPassword } from "./NewPassword";
import { linkQuery, useLink, useSignIn } from "./queries";

/** Signing in: by name and password, or by a link, whose secret stands behind the mark in the address. */
export function SignInPage() {
  useTheme();
  const { hash } = useLocation();
  const secret = hash.slice(1);
  const me = useQuery(meQuery); // what comes of it is sent with each form
  return (
    <div className="grid h-dvh place-items-center overflow-auto bg-ground p-5">
      <main className="w-[26rem] max-w-full">
        <p className="text-2xl font-bold">
          kind echo <span className="font-light text-difference">echo</span>
        </p>
        <div className="mt-6 rounded-lg border border-line bg-sheet p-6">
          {me.error ? (
            <p role="alert">{me.error.message}</p>
          ) : me.isPending ? (
            <p role="status">Loading…</p>
          ) : secret ? (
            <ByLink key={secret} secret={secret} />
          ) : (
            <ByPassword />
          )}
        </div>
      </main>
    </div>
  );
}

function ByPassword() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useSignIn();
  const done = useWayOn();
  return (
    <Form
      title="Sign in"
      error={signIn.error}
      button="Sign in"
      busy={signIn.isPending}
      onSubmit={() => signIn.mutate({ name, password }, { onSuccess: done })}
      after="No account, or no password any more? An administrator can send you a new link."
    >
      <Labelled
        label="Name"
        autoComplete="username"
        required
        maxLength={80}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <Labelled
        label="Password"
        type="password"
        autoComplete="current-password"
        required
        value={password}
        onChange={(event) => setPassword(event.target.value)}
      />
    </Form>
  );
}

function ByLink({ secret }: { secret: string }) {
  const link = useQuery(linkQuery(secret));
  const use = useLink();
  const done = useWayOn();
  const [password, setPassword] = useState("");
  const local = link.data?.sets_password === false;
  const { mutate } = use;
  // A link of the demo asks nothing; an effect alone may change what the server holds.
  useEffect(() => {
    if (local) mutate({ secret, password: null }, { onSuccess: done });
  }, [local, secret, mutate, done]);
  const error = link.error ?? (local ? use.error : null);
  if (error)
    return (
      <div role="alert">
        <h1 className="text-lg font-semibold">This link is not valid</h1>
        <p className="mt-1 mb-4 text-quiet">{error.message}</p>
        <a href="./sign-in" className="underline">
          Sign in with a password
        </a>
      </div>
    );
  if (!link.data || local) return <p role="status">Signing in…</p>;
  return (
    <Form
      title={`Welcome, ${link.data.name}`}
      error={use.error}
      button="Choose and sign in"
      busy={use.isPending}
      onSubmit={() => use.mutate({ secret, password }, { onSuccess: done })}
      after="This link works once. Afterwards you sign in with your name and this password."
    >
      <input type="hidden" autoComplete="username" value={link.data.name} />
      <NewPassword label="Your new password" value={password} onChange={setPassword} />
    </Form>
  );
}

/** Where somebody goes who has signed in: where they were, or to the runs. */
function useWayOn() {
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const [done] = useState(() => () => {
    if (pathname === "/sign-in") navigate("/", { replace: true });
  });
  return done;
}

interface FormProps {
  title: string;
  error: Error | null;
  button: string;
  busy: boolean;
  after: string;
  onSubmit: () => void;
  children: ReactNode;
}

function Form({ title, error, button, busy, after, onSubmit, children }: FormProps) {
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        onSubmit();
      }}
    >
      <h1 className="text-lg font-semibold">{title}</h1>
      {children}
      {error && <p role="alert">{error.message}</p>}
      <Button look="main" type="submit" disabled={busy} className="justify-center">
        {button}
      </Button>
      <p className="text-xs leading-5 text-quiet">{after}</p>
    </form>
  );
}
