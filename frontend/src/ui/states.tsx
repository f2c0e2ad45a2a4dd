import type { ReactNode } from "react";
import { Button } from "./controls";

export function Loading({ what }: { what: string }) {
  return (
    <p role="status" className="px-5 py-8 text-quiet">
      Loading {what}…
    </p>
  );
}

export function Failed({ error, onRetry }: { error: Error; onRetry: () => void }) {
  return (
    <div role="alert" className="m-5 max-w-xl rounded-md border border-line bg-sheet p-5">
      <p className="font-semibold">This could not be shown.</p>
      <p className="mt-1 mb-4 text-quiet">{error.message}</p>
      <Button onClick={onRetry}>Try again</Button>
    </div>
  );
}

/** Beside data that is still shown while a newer look at it failed. */
export function Stale({ error }: { error: Error | null }) {
  if (!error) return null;
  return (
    <p role="alert" className="border-b border-line bg-sheet px-5 py-2">
      {error.message}
    </p>
  );
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="max-w-xl px-5 py-8">
      <p className="font-semibold">{title}</p>
      <p className="mt-1 text-quiet">{children}</p>
    </div>
  );
}
