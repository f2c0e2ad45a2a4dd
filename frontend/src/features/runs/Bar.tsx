import type { Run } from "../../api/client";

/** One bar of cells: blank where they pass, ink where they do not. */
export function Bar({
  verdicts: { failed, no_reading, changed },
  cells,
  className,
}: {
  verdicts: Run["verdicts"];
  cells: number;
  className: string;
}) {
  const share = (count: number) => `${(100 * count) / Math.max(1, cells)}%`;
  return (
    <div aria-hidden="true" className={`flex w-full border border-line bg-sheet ${className}`}>
      <span className="bg-difference" style={{ width: share(failed) }} />
      <span className="bg-quiet" style={{ width: share(no_reading) }} />
      <span className="hatch-changed" style={{ width: share(changed) }} />
    </div>
  );
}
