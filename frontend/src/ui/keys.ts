import { useEffect, useRef } from "react";

export type Keys = Record<string, (event: KeyboardEvent) => void>;

const EDITABLE =
  "input, textarea, [contenteditable], [role=combobox], [role=listbox], [role=radiogroup]:not([data-keys=page]), [role=menu], [role=dialog]";

/** Keys of a screen: `event.key`, or "Shift+" and it. Left alone while something is typed or a dialog is open. */
export function useKeys(keys: Keys): void {
  const current = useRef(keys);
  current.current = keys;
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented) return;
      if (event.target instanceof Element && event.target.closest(EDITABLE)) return;
      if (event.key === " " && event.target instanceof Element && event.target.matches("[role=checkbox]"))
        return;
      const act = current.current[event.shiftKey && event.key.length > 1 ? `Shift+${event.key}` : event.key];
      if (!act) return;
      event.preventDefault();
      act(event);
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
}
