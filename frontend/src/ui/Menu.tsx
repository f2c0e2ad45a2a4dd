import { lazy, type ReactNode, Suspense, useState } from "react";

const opened = () => import("./OpenMenu");

// What a menu opens with is fetched when somebody is about to press one.
const OpenMenu = lazy(async () => ({ default: (await opened()).OpenMenu }));

/** A line of a menu. */
export type MenuItem =
  /** Does something. */
  | { kind: "act"; label: string; disabled?: boolean; onSelect: () => void }
  /** Leads to a page. */
  | { kind: "page"; label: string; to: string }
  /** Sends a file. */
  | { kind: "file"; label: string; address: string }
  /** One of several, of which one is chosen. */
  | { kind: "choice"; label: string; detail?: string | undefined; chosen: boolean; onSelect: () => void }
  /** Turned on or off; the menu stays open. */
  | { kind: "check"; label: string; checked: boolean; onSelect: () => void }
  /** Only says something. */
  | { kind: "words"; label: string }
  | { kind: "line" };

export interface MenuProps {
  /** What the button is called where its text does not say it. */
  name?: string;
  /** The look of the button. */
  className: string;
  /** What stands on the button. */
  children: ReactNode;
  items: MenuItem[];
  align?: "start" | "end";
  /** After the menu is away; its event prevented, the focus does not go back to the button. */
  onClosed?: ((event: Event) => void) | undefined;
}

/** A button that opens a menu. */
export function Menu(props: MenuProps) {
  const [asked, setAsked] = useState(false);
  const { name, className, children } = props;
  const closed = (
    <button
      type="button"
      aria-label={name}
      aria-haspopup="menu"
      aria-expanded={false}
      className={className}
      onPointerEnter={() => void opened()}
      onFocus={() => void opened()}
      onClick={() => setAsked(true)}
      onKeyDown={(event) => {
        if (event.key !== "ArrowDown") return;
        event.preventDefault();
        setAsked(true);
      }}
    >
      {children}
    </button>
  );
  return <Suspense fallback={closed}>{asked ? <OpenMenu {...props} /> : closed}</Suspense>;
}
