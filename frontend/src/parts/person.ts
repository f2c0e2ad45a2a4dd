import { useSyncExternalStore } from "react";

const KEY = "kind-echo.person";
const listeners = new Set<() => void>();

const read = () => localStorage.getItem(KEY) ?? "";

/** The name under which acts are written down, until there are accounts. */
export function usePerson(): [string, (name: string) => void] {
  const name = useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, read);
  const set = (next: string) => {
    localStorage.setItem(KEY, next);
    for (const listener of listeners) listener();
  };
  return [name, set];
}
