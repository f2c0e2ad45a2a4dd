import type { ReactNode } from "react";

/** A column: its head alone, or with the classes of its width and side. */
export type Column = string | FullColumn;

interface FullColumn {
  head: ReactNode;
  /** What tells it from the others. */
  name: string;
  className?: string;
  title?: string;
}

/** The column of what can be done to a row, whose head is heard only. */
export const ACTIONS: FullColumn = { head: <span className="sr-only">Actions</span>, name: "actions" };

/** A column with classes of its own. */
export function column(head: string, className: string): FullColumn {
  return { head, name: head, className };
}

const LOOK =
  "w-full border-t border-line [&>thead]:text-left [&>thead]:text-xs [&>thead]:text-quiet [&>thead>tr>th]:px-3 [&>thead>tr>th]:py-2 [&>thead>tr>th]:font-normal [&>thead>tr>th:first-child]:pl-5 [&>thead>tr>th:last-child]:pr-5 [&>tbody>tr]:border-t [&>tbody>tr]:border-line [&>tbody>tr]:bg-sheet [&>tbody>tr]:align-top [&>tbody>tr>td]:px-3 [&>tbody>tr>td:first-child]:pl-5 [&>tbody>tr>td:last-child]:pr-5";

/**
 * A table of a page's width. Its caption is heard, its title stands above it; its children are the rows, roomy ones where
 * each has more than one line.
 */
export function Table({
  caption,
  title,
  columns,
  roomy = false,
  className = "",
  children,
}: {
  caption?: ReactNode;
  title?: string;
  columns?: Column[];
  roomy?: boolean;
  className?: string;
  children: ReactNode;
}) {
  return (
    <table className={`${LOOK} ${roomy ? "[&>tbody>tr>td]:py-3.5" : "[&>tbody>tr>td]:py-2"} ${className}`}>
      {title !== undefined && <caption className="px-5 pt-4 pb-2 text-left font-semibold">{title}</caption>}
      {caption !== undefined && <caption className="sr-only">{caption}</caption>}
      {columns && (
        <thead>
          <tr>
            {columns.map((column) => {
              const { head, name, className, title } =
                typeof column === "string" ? { head: column, name: column } : column;
              return (
                <th key={name} scope="col" className={className} title={title}>
                  {head}
                </th>
              );
            })}
          </tr>
        </thead>
      )}
      <tbody>{children}</tbody>
    </table>
  );
}
