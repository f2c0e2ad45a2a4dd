import { useKeys } from "../../ui/keys";

/** What the keys of a sheet do. */
export interface SheetActions {
  /** One step down and right, to another cell. */
  walk: (down: number, right: number) => void;
  /** The same, marking on the way. */
  stretch: (down: number, right: number) => void;
  /** To the next or previous cell that needs review. */
  trouble: (by: 1 | -1) => void;
  /** To the build after, or before. */
  build: (by: 1 | -1) => void;
  figures: () => void;
  only: () => void;
  mark: () => void;
  unmark: () => void;
  decide: (first: "reference" | "fault") => void;
  listen: () => void;
  overlay: () => void;
  report: () => void;
  undo: () => void;
  open: () => void;
}

/** The keys of a sheet, as the list of keys tells them. */
export function useSheetKeys(does: SheetActions): void {
  useKeys({
    ArrowUp: () => does.walk(-1, 0),
    ArrowDown: () => does.walk(1, 0),
    ArrowLeft: () => does.walk(0, -1),
    ArrowRight: () => does.walk(0, 1),
    "Shift+ArrowUp": () => does.stretch(-1, 0),
    "Shift+ArrowDown": () => does.stretch(1, 0),
    "Shift+ArrowLeft": () => does.stretch(0, -1),
    "Shift+ArrowRight": () => does.stretch(0, 1),
    ".": () => does.trouble(1),
    ",": () => does.trouble(-1),
    "[": () => does.build(-1),
    "]": () => does.build(1),
    f: does.figures,
    n: does.only,
    x: does.mark,
    a: () => does.decide("reference"),
    d: () => does.decide("fault"),
    j: does.listen,
    o: does.overlay,
    r: does.report,
    u: does.undo,
    Escape: does.unmark,
    Enter: does.open,
  });
}
