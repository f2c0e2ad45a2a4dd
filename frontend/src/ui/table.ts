/** How all tables of a page's width look. */
export const HEAD =
  "text-left text-xs text-quiet [&>tr>th]:px-3 [&>tr>th]:py-2 [&>tr>th]:font-normal [&>tr>th:first-child]:pl-5 [&>tr>th:last-child]:pr-5";
export const ROW =
  "border-t border-line bg-sheet align-top [&>td]:px-3 [&>td]:py-2 [&>td:first-child]:pl-5 [&>td:last-child]:pr-5";
