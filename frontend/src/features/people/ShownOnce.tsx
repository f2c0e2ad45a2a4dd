import { useState } from "react";
import { Button } from "../../ui/controls";

export interface Secret {
  what: string;
  text: string;
  /** Whether the server keeps it, though it shows it no more. */
  isKept?: boolean;
}

/** A secret that is shown this one time. */
export function ShownOnce({ secret, onClose }: { secret: Secret; onClose: () => void }) {
  const [copied, setCopied] = useState(false);
  // A page that came by plain HTTP from another machine may not write to the clipboard; the text can be marked by hand.
  const copy = () =>
    navigator.clipboard?.writeText(secret.text).then(
      () => setCopied(true),
      () => setCopied(false),
    );
  return (
    <section aria-label="Shown once" className="mx-5 mb-4 rounded-md border border-quiet bg-sheet px-4 py-3">
      <p role="status">
        <b className="font-semibold">{secret.what}</b> It is shown only once
        {!secret.isKept && " and is not stored"}.
      </p>
      <div className="mt-2 flex items-center gap-3">
        <code className="min-w-0 flex-1 rounded bg-ground px-2 py-1.5 font-mono text-xs break-all select-all">
          {secret.text}
        </code>
        {navigator.clipboard && (
          <Button small onClick={copy}>
            {copied ? "Copied" : "Copy"}
          </Button>
        )}
        <Button small onClick={onClose}>
          Done
        </Button>
      </div>
    </section>
  );
}
