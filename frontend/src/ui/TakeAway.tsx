import { DropdownMenu } from "radix-ui";
import { useEffect, useState } from "react";
import { BASE } from "../api/base";

export interface Download {
  label: string;
  /** Where it is in the API. */
  path: string;
}

/** A table in both forms that it can be had in. */
export const inBothForms = (label: string, path: string, query = ""): Download[] => [
  { label: `${label}, CSV`, path: `${path}.csv${query}` },
  { label: `${label}, JSON`, path: `${path}.json${query}` },
];

/** A report in the forms that it can be had in. */
export const reportFiles = (label: string, path: string, query: Record<string, string> = {}): Download[] => {
  const asked = (paper: string) => `?${new URLSearchParams({ ...query, paper })}`;
  return [
    { label: `${label}, PDF on A4`, path: `${path}.pdf${asked("a4")}` },
    { label: `${label}, PDF on Letter`, path: `${path}.pdf${asked("letter")}` },
    { label: `${label}, HTML`, path: `${path}.html${asked("a4")}` },
  ];
};

const ITEM = "block cursor-pointer rounded px-2 py-1.5 outline-none data-[highlighted]:bg-ground";
const TOLD_MS = 2500;

/** What of a page can be kept as a file, and the link that leads back to it. */
export function TakeAway({
  what,
  label = "Download…",
  files,
}: {
  what: string;
  label?: string;
  files: Download[];
}) {
  const [copied, setCopied] = useState(false);
  useEffect(() => {
    if (!copied) return;
    const timer = setTimeout(() => setCopied(false), TOLD_MS);
    return () => clearTimeout(timer);
  }, [copied]);
  // Browsers give the clipboard to pages over HTTPS and of this machine alone.
  const canCopy = typeof navigator.clipboard?.writeText === "function";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`${label.replace("…", "")} ${what}`}
        className="whitespace-nowrap underline decoration-line hover:decoration-text data-[state=open]:decoration-text"
      >
        <span role="status">{copied ? "Link copied" : label}</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-30 min-w-44 rounded-md border border-line bg-sheet p-1 text-sm shadow-lg"
        >
          {files.map((file) => (
            <DropdownMenu.Item key={file.path} asChild className={ITEM}>
              <a href={`${BASE}${file.path}`} download>
                {file.label}
              </a>
            </DropdownMenu.Item>
          ))}
          {canCopy && (
            <DropdownMenu.Item
              className={ITEM}
              onSelect={() => navigator.clipboard.writeText(window.location.href).then(() => setCopied(true))}
            >
              Copy link
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
