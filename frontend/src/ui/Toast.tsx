import { createContext, lazy, type ReactNode, Suspense, useCallback, useContext, useState } from "react";

/** What is said is fetched when there is something to say. */
const Shown = lazy(async () => ({ default: (await import("./ShownToasts")).ShownToasts }));

export interface Said {
  number: number;
  words: string;
  /** Until somebody closes it, as what went wrong does. */
  stays: boolean;
}

const Saying = createContext<(words: string, stays?: boolean) => void>(() => undefined);

/** Says in a corner of the page what came of something that leaves no other trace on it; it goes by itself. */
export const useSay = () => useContext(Saying);

/** Around all that may say something. */
export function Toasts({ children }: { children: ReactNode }) {
  const [said, setSaid] = useState<Said[]>([]);
  const say = useCallback(
    (words: string, stays = false) =>
      setSaid((before) =>
        before.some((one) => one.words === words)
          ? before
          : [...before, { number: (before.at(-1)?.number ?? 0) + 1, words, stays }],
      ),
    [],
  );
  const forget = useCallback(
    (number: number) => setSaid((before) => before.filter((one) => one.number !== number)),
    [],
  );
  return (
    <Saying.Provider value={say}>
      {children}
      {said.length > 0 && (
        <Suspense fallback={null}>
          <Shown said={said} onGone={forget} />
        </Suspense>
      )}
    </Saying.Provider>
  );
}
