import { Dialog } from "radix-ui";
import { Suspense, useState } from "react";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import { PersonMenu } from "../features/people/PersonMenu";
import { useKeys } from "../ui/keys";
import { Loading } from "../ui/states";
import { useTheme } from "../ui/theme";
import { KEY_LIST } from "./keylist";

const LINKS = [
  { to: "/", label: "Overview", under: ["/runs", "/cells"] },
  { to: "/trends", label: "Trends", under: ["/searches"] },
  { to: "/plans", label: "Plans", under: ["/plans/"] },
  { to: "/files", label: "Files", under: ["/files/", "/comparisons"] },
  { to: "/listen/tests", label: "Listening", under: ["/listen"] },
  { to: "/references", label: "References", under: [] },
  { to: "/signals", label: "Signals", under: [] },
  { to: "/effects", label: "Effects", under: [] },
  { to: "/hosts", label: "Hosts", under: [] },
];

export function Shell() {
  const [theme, turnTheme] = useTheme();
  const [help, setHelp] = useState(false);
  const { pathname } = useLocation();
  useKeys({ "?": () => setHelp(true) });
  return (
    <div className="flex h-dvh flex-col print:block print:h-auto">
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:absolute focus:z-40 focus:bg-sheet focus:p-3"
      >
        Skip to the content
      </a>
      <header className="flex h-11 print:hidden shrink-0 items-center gap-4 border-b xl:gap-6 border-line bg-sheet px-5">
        <Link to="/" className="text-base font-bold whitespace-nowrap">
          kind echo <span className="font-light text-difference">echo</span>
        </Link>
        <nav aria-label="Main" className="flex gap-3 xl:gap-5">
          {LINKS.map(({ to, label, under }) => {
            const here = pathname === to || under.some((path) => pathname.startsWith(path));
            return (
              <NavLink
                key={to}
                to={to}
                end
                aria-current={here ? "page" : undefined}
                className={`whitespace-nowrap ${here ? "font-semibold" : "text-quiet hover:text-text"}`}
              >
                {label}
              </NavLink>
            );
          })}
        </nav>
        <div className="ml-auto flex items-center gap-3 whitespace-nowrap text-quiet xl:gap-4">
          <button type="button" onClick={turnTheme} className="hover:text-text">
            {theme === "dark" ? "Light" : "Dark"}
          </button>
          <button type="button" onClick={() => setHelp(true)} className="hover:text-text">
            Keys <kbd className="font-sans">?</kbd>
          </button>
          <PersonMenu />
        </div>
      </header>
      <main id="main" tabIndex={-1} className="flex min-h-0 flex-1 flex-col outline-none">
        <Suspense fallback={<Loading what="the page" />}>
          <Outlet />
        </Suspense>
      </main>
      <KeyHelp open={help} onOpenChange={setHelp} />
    </div>
  );
}

function KeyHelp({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-50 max-h-[85vh] w-[44rem] max-w-[94vw] -translate-1/2 overflow-auto rounded-lg border border-line bg-sheet p-6"
        >
          <Dialog.Title className="text-lg font-semibold">Keys</Dialog.Title>
          <div className="mt-4 grid grid-cols-2 gap-8">
            {KEY_LIST.map(({ screen, keys }) => (
              <section key={screen}>
                <h3 className="font-semibold">{screen}</h3>
                <dl className="mt-2 grid grid-cols-[7.5rem_1fr] gap-y-1.5">
                  {keys.map(([key, act]) => (
                    <div key={key} className="contents">
                      <dt className="font-medium">{key}</dt>
                      <dd className="text-quiet">{act}</dd>
                    </div>
                  ))}
                </dl>
              </section>
            ))}
          </div>
          <Dialog.Close className="mt-6 h-9 rounded-md border border-line px-3 font-medium">
            Close
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export function NotFound() {
  return (
    <div className="px-5 py-8">
      <p className="font-semibold">There is nothing at this address.</p>
      <p className="mt-1 text-quiet">
        It may have been typed wrong.{" "}
        <Link to="/" className="underline">
          To the runs
        </Link>
      </p>
    </div>
  );
}
