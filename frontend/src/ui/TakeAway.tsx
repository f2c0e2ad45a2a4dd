import { BASE } from "../api/base";
import { Menu } from "./Menu";
import { useSay } from "./Toast";

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
  const say = useSay();
  // Browsers give the clipboard to pages over HTTPS and of this machine alone.
  const canCopy = typeof navigator.clipboard?.writeText === "function";
  const copy = () =>
    navigator.clipboard.writeText(window.location.href).then(() => say("The link to this page is copied."));
  return (
    <Menu
      name={`${label.replace("…", "")} ${what}`}
      className="whitespace-nowrap underline decoration-line hover:decoration-text data-[state=open]:decoration-text"
      align="end"
      items={[
        ...files.map(
          (file) => ({ kind: "file", label: file.label, address: `${BASE}${file.path}` }) as const,
        ),
        ...(canCopy ? [{ kind: "act", label: "Copy link", onSelect: () => void copy() } as const] : []),
      ]}
    >
      {label}
    </Menu>
  );
}
