import { queryOptions } from "@tanstack/react-query";
import { client, type Schemas, unwrap } from "../../api/client";

export type Overlay = Schemas["OverlayBody"];
export type OverlayLine = Overlay["lines"][number];

/** What is laid over each other: files of a set, cells, or one cell over its builds. */
export type Source =
  | { of: "set"; set: number; files: number[] }
  | { of: "cells"; cells: number[] }
  | { of: "builds"; cell: number };

export interface Asked {
  kind: string;
  against: number | null;
  start: number | null;
  stop: number | null;
}

function fetched(source: Source, asked: Asked, signal: AbortSignal) {
  switch (source.of) {
    case "set":
      return client.GET("/api/overlays/sets/{set_id}", {
        params: { path: { set_id: source.set }, query: { ...asked, files: source.files.join() } },
        signal,
      });
    case "cells":
      return client.GET("/api/overlays/cells", {
        params: { query: { ...asked, cells: source.cells.join() } },
        signal,
      });
    case "builds":
      return client.GET("/api/overlays/builds/{cell_id}", {
        params: { path: { cell_id: source.cell }, query: asked },
        signal,
      });
  }
}

/** `version` is something that changes when what is drawn does. */
export const overlayQuery = (source: Source, asked: Asked, version: string) =>
  queryOptions({
    queryKey: ["overlays", source, asked, version],
    queryFn: ({ signal }) => unwrap(fetched(source, asked, signal)),
    placeholderData: (previous) => previous,
  });

/** Where the same picture is as a file, without its ending, and its query. */
export function fileOf(source: Source, asked: Asked): { path: string; query: string } {
  const query = new URLSearchParams();
  for (const [key, value] of Object.entries(asked))
    if (value !== null && value !== "") query.set(key, `${value}`);
  if (source.of === "set") query.set("files", source.files.join());
  if (source.of === "cells") query.set("cells", source.cells.join());
  const place =
    source.of === "set" ? `sets/${source.set}` : source.of === "cells" ? "cells" : `builds/${source.cell}`;
  return { path: `/api/overlays/${place}`, query: `?${query}` };
}
