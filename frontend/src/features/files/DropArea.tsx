import { type ReactNode, useRef, useState } from "react";
import { useCan } from "../../api/me";
import { FileButton } from "../../ui/controls";
import { type Chosen, chosenFiles, droppedFiles } from "./sending";

/** A page onto which files and folders can be dropped; `children` gets the buttons that choose them. */
export function DropArea({
  verb = "Choose",
  onFiles,
  className,
  children,
}: {
  verb?: "Choose" | "Add";
  onFiles: (chosen: Chosen[]) => void;
  className: string;
  children: (choose: ReactNode) => ReactNode;
}) {
  const [over, setOver] = useState(0);
  const works = useCan("work");
  const drop = async (transfer: DataTransfer) => {
    const chosen = await droppedFiles(transfer);
    if (works && chosen.length > 0) onFiles(chosen);
  };
  const choose = works && (
    <>
      <FileButton multiple onFiles={(files) => onFiles(chosenFiles(files))}>
        {verb} files
      </FileButton>
      <FolderButton verb={verb} onFiles={(files) => onFiles(chosenFiles(files))} />
    </>
  );
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: a file dropped beside a field must not open in the browser
    <div
      className={`relative min-h-0 flex-1 ${className}`}
      onDragEnter={() => setOver((n) => n + 1)}
      onDragLeave={() => setOver((n) => n - 1)}
      onDragOver={(event) => event.preventDefault()}
      onDrop={(event) => {
        event.preventDefault();
        setOver(0);
        void drop(event.dataTransfer);
      }}
    >
      {children(choose)}
      {over > 0 && works && (
        <div className="pointer-events-none absolute inset-2 z-20 grid place-items-center rounded-lg border-2 border-text bg-ground/85">
          <p className="text-xl font-light">Drop to add.</p>
        </div>
      )}
    </div>
  );
}

function FolderButton({ verb, onFiles }: { verb: string; onFiles: (files: File[]) => void }) {
  const field = useRef<HTMLInputElement>(null);
  return (
    <label className="inline-flex h-9 cursor-pointer items-center rounded-md border border-line bg-sheet px-3 font-medium focus-within:outline-2 focus-within:outline-offset-2 hover:border-quiet">
      {verb} a folder
      <input
        ref={(element) => {
          field.current = element;
          element?.setAttribute("webkitdirectory", "");
        }}
        type="file"
        className="sr-only"
        onChange={(event) => {
          onFiles([...(event.target.files ?? [])]);
          event.target.value = "";
        }}
      />
    </label>
  );
}
