import { useState } from "react";
import type { Pair } from "../../api/client";
import { Button } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { number } from "../../ui/numbers";
import type { View } from "./view";

type Place = Pair["places"][number];

const LISTED = 8;
const LEAST_SECONDS = 0.02;
const AROUND = 1.5; // of a place's length, to either side

/** A view that shows a place with what is around it. */
function around(place: Place, rate: number): View {
  const length = Math.max(place.length, LEAST_SECONDS);
  return {
    start: (place.start - AROUND * length) * rate,
    stop: (place.start + place.length + AROUND * length) * rate,
  };
}

/** Where the sides differ most, then what the render has by itself: walked by keys, or chosen from the list. */
export function Places({ pair, rate, onView }: { pair: Pair; rate: number; onView: (view: View) => void }) {
  const { places } = pair;
  const [chosen, setChosen] = useState<number>();
  const [all, setAll] = useState(false);
  const go = (index: number) => {
    const place = places[index];
    if (!place) return;
    setChosen(index);
    if (index >= LISTED) setAll(true);
    onView(around(place, rate));
  };
  useKeys({
    n: () => go(chosen === undefined ? 0 : Math.min(places.length - 1, chosen + 1)),
    p: () => go(chosen === undefined ? 0 : Math.max(0, chosen - 1)),
  });
  if (places.length === 0) return null;
  return (
    <section aria-label="Where to look" className="mb-5">
      <div className="flex items-center gap-2">
        <h2 className="mr-auto font-semibold">Where they differ most</h2>
        <Button
          small
          hint="P"
          disabled={chosen === undefined || chosen === 0}
          onClick={() => go((chosen ?? 1) - 1)}
        >
          Previous
        </Button>
        <Button
          small
          hint="N"
          disabled={chosen === places.length - 1}
          onClick={() => go(chosen === undefined ? 0 : chosen + 1)}
        >
          Next
        </Button>
      </div>
      <ol className="mt-1">
        {places.slice(0, all ? undefined : LISTED).map((place, i) => (
          <li key={`${place.of} ${place.start}`} className="border-t border-line">
            <button
              type="button"
              aria-current={chosen === i}
              onClick={() => go(i)}
              className={`flex w-full gap-3 py-1 text-left hover:bg-sheet ${chosen === i ? "bg-sheet font-semibold" : ""}`}
            >
              <span className="w-20 shrink-0 text-right">{number(place.start, 3)} s</span>
              <span className="min-w-0 flex-1 truncate first-letter:uppercase">
                {place.reason}, {number(1000 * place.length, 0)} ms
              </span>
              <span className="shrink-0">{number(place.amount, 1)}</span>
            </button>
          </li>
        ))}
      </ol>
      {places.length > LISTED && !all && (
        <Button small onClick={() => setAll(true)}>
          All {places.length}
        </Button>
      )}
      <p className="mt-1 text-right text-xs text-quiet">
        difference over 10 ms, RMS in dBFS; of the render, its peak
      </p>
    </section>
  );
}
