import type { ReactNode } from "react";

/** A form that adds something: its heading, a line about it, its fields, and what was refused. */
export function Form({
  title,
  about,
  main = false,
  className = "border-t border-line px-5 pt-4 pb-5",
  error,
  onSubmit,
  children,
}: {
  title: string;
  about?: ReactNode;
  /** It is what its page is for: its heading is the page's own. */
  main?: boolean;
  className?: string;
  error: Error | null;
  onSubmit: () => void;
  children: ReactNode;
}) {
  const Heading = main ? "h1" : "h2";
  return (
    <form
      className={className}
      onSubmit={(event) => {
        event.preventDefault();
        onSubmit();
      }}
    >
      <Heading className={main ? "text-lg font-semibold" : "font-semibold"}>{title}</Heading>
      {about && <p className="text-quiet">{about}</p>}
      {children}
      {error && (
        <p role="alert" className="mt-2">
          {error.message}
        </p>
      )}
    </form>
  );
}

/** Fields beside one another, on one line at their feet. */
export function Fields({ children }: { children: ReactNode }) {
  return <div className="mt-2 flex flex-wrap items-end gap-x-4 gap-y-2">{children}</div>;
}
