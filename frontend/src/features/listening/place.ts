import { type Asked, type Place, readPlace } from "./address";

const KEPT = "kind-echo.passage.";

/** What stands in the address; where that names no passage, the one that was chosen on this page last. */
export function recalled(search: URLSearchParams): Place {
  const place = readPlace(search);
  const kept = search.has("passage") ? null : localStorage.getItem(KEPT + place.subject);
  const [start, end] = (kept ?? "").split("-").map(Number);
  if (!place.subject || start === undefined || end === undefined || !(end > start)) return place;
  return { ...place, asked: { ...place.asked, passage: null, start, end } };
}

export function remember(subject: string, { passage, start, end }: Partial<Asked>) {
  if (subject && passage === null) localStorage.setItem(KEPT + subject, `${start}-${end}`);
  else localStorage.removeItem(KEPT + subject);
}
