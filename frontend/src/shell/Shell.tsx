import { lazy, Suspense, useState } from "react";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import { PersonMenu } from "../features/people/PersonMenu";
import { useKeys } from "../ui/keys";
import { Loading } from "../ui/states";
import { Toasts } from "../ui/Toast";
import { useTheme } from "../ui/theme";
import { Boundary } from "./Boundary";

// What opens on request is fetched then.
const KeyHelp = lazy(async () => ({ default: (await import("./KeyHelp")).KeyHelp }));

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
        <Boundary>
          <Toasts>
            <Suspense fallback={<Loading what="the page" />}>
              <Outlet />
            </Suspense>
          </Toasts>
        </Boundary>
      </main>
      {help && (
        <Suspense fallback={null}>
          <KeyHelp onClose={() => setHelp(false)} />
        </Suspense>
      )}
    </div>
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
