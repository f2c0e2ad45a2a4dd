import { Link, useSearchParams } from "react-router";
import { Empty } from "../../ui/states";
import { OverlayView } from "./OverlayView";

/** Marked cells over each other, or one cell over its builds, by what the address says. */
export function OverlayPage() {
  const [search] = useSearchParams();
  const cells = (search.get("cells") ?? "").split(",").map(Number).filter(Boolean);
  const cell = Number(search.get("builds"));
  const from = search.get("from");
  if (!cell && cells.length === 0)
    return (
      <Empty title="Nothing is marked.">
        Mark cells on a sheet and press O, or open a pair and look at its curves over the builds.
      </Empty>
    );
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-auto pt-2">
      <OverlayView
        source={cell ? { of: "builds", cell } : { of: "cells", cells }}
        crumbs={
          <p className="text-quiet">
            <Link to={cell ? `/cells/${cell}` : from ? `/runs/${from}` : "/"} className="underline">
              {cell ? "The pair" : "The sheet"}
            </Link>
            {cell ? " / Over the builds, the oldest palest" : " / Overlay"}
          </p>
        }
      />
    </div>
  );
}
