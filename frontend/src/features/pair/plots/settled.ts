import { useEffect, useState } from "react";
import type { View } from "../view";

const SETTLE_MS = 250;

/** A view once it has stopped changing: work for every step of the wheel would be work for nothing. */
export function useSettled(view: View): View {
  const [settled, setSettled] = useState(view);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(view), SETTLE_MS);
    return () => clearTimeout(timer);
  }, [view]);
  return settled;
}
