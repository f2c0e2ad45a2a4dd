/** Every key there is, as the help shows it. */
export const KEY_LIST: { screen: string; keys: [string, string][] }[] = [
  {
    screen: "Sheet",
    keys: [
      ["arrow keys", "walk from cell to cell"],
      ["Shift + arrows", "mark cells on the way"],
      [". and ,", "next and previous cell that needs you"],
      ["Enter", "open the pair"],
      ["X", "mark or unmark the cell"],
      ["Esc", "unmark all"],
      ["A", "approve what is marked, or the cell"],
      ["D", "decide on it: a fault, a waiver, accepted"],
      ["U", "undo the last decision"],
      ["N", "show only what needs you, or all"],
      ["[ and ]", "the build before, the build after"],
      ["F", "figures in the cells, or ink alone"],
    ],
  },
  {
    screen: "Pair",
    keys: [
      ["Space", "play and stop"],
      ["1, 2, 3", "hear reference, render, difference"],
      ["L", "loop what is shown"],
      ["+ and −", "difference louder, softer"],
      ["I and O", "zoom in, zoom out"],
      ["← and →", "move along"],
      ["S", "down to single samples"],
      ["W", "the whole file"],
      [". and ,", "next and previous pair that needs you"],
      ["A", "approve the render"],
      ["D", "decide on it"],
      ["U", "undo the last decision"],
      ["Esc", "back to the sheet"],
    ],
  },
];
