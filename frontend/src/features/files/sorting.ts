import type { SetFile } from "./queries";

/** By which measure rows are sorted, the greatest first unless upwards. */
export interface Order {
  key: string;
  upwards: boolean;
}

/** The reference or input first, then the rows in order, by folder and name unless a measure was chosen; those without
 * its reading come last. */
export function sorted(files: readonly SetFile[], order: Order | undefined): SetFile[] {
  const place = (file: SetFile) => (file.role === "file" ? 1 : 0);
  const byName = (a: SetFile, b: SetFile) =>
    place(a) - place(b) || inOrder(a.folder, b.folder) || inOrder(a.name, b.name) || a.id - b.id;
  return [...files].sort((a, b) => {
    if (!order) return byName(a, b);
    return (
      place(a) - place(b) ||
      compare(heightOf(a, order.key), heightOf(b, order.key), order.upwards) ||
      a.id - b.id
    );
  });
}

/** As a folder lists names: "take 2" before "take 10". */
const inOrder = new Intl.Collator("en", { numeric: true }).compare;

/** A bound stands for a value that is not there: what is at most so much lies under all that has a value. */
function heightOf(file: SetFile, key: string): number | undefined {
  const reading = file.readings[key];
  if (!reading) return undefined;
  if (reading.reason === "null" || reading.reason === "silence") return Number.NEGATIVE_INFINITY;
  return reading.value ?? reading.at_most ?? undefined;
}

function compare(a: number | undefined, b: number | undefined, upwards: boolean): number {
  if (a === undefined || b === undefined) return (a === undefined ? 1 : 0) - (b === undefined ? 1 : 0);
  if (a === b) return 0;
  return (a < b ? -1 : 1) * (upwards ? 1 : -1);
}
