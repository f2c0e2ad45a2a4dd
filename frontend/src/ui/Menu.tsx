import { type ComponentType, type ReactNode, useState } from "react";
import type { OpenMenuProps } from "./OpenMenu";

/** What a menu opens with; it is fetched when somebody is about to press one. */
const fetched = async (): Promise<ComponentType<OpenMenuProps>> => (await import("./OpenMenu")).OpenMenu;
const fetchAhead = () => void fetched().catch(() => undefined); // pressed, it is tried again, and what is wrong is said

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
  const [opened, setOpened] = useState<{ Open: ComponentType<OpenMenuProps>; byKey: boolean }>();
  const [failed, setFailed] = useState(false);
  const { name, className, children } = props;
  if (opened) return <opened.Open {...props} byKey={opened.byKey} />;
  const open = (byKey: boolean) =>
    void fetched().then(
      (Open) => setOpened({ Open, byKey }),
      () => setFailed(true),
    );
  return (
    <>
      <button
        type="button"
        aria-label={name}
        aria-haspopup="menu"
        aria-expanded={false}
        className={className}
        onPointerEnter={fetchAhead}
        onFocus={fetchAhead}
        // A press by Enter or the space bar is a click without a count.
        onClick={(event) => open(event.detail === 0)}
        onKeyDown={(event) => {
          if (event.key !== "ArrowDown") return;
          event.preventDefault();
          open(true);
        }}
      >
        {children}
      </button>
      {failed && (
        <span role="alert" className="ml-2 text-xs font-normal text-quiet">
          The menu could not be fetched. Load the page again.
        </span>
      )}
    </>
  );
}
