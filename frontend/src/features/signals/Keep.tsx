import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import type { Signal, SignalRequest } from "../../api/client";
import { sendFile } from "../../api/upload";
import { Button, FileButton } from "../../ui/controls";
import { Form } from "../../ui/Form";
import { useKeepSignal } from "./queries";

const BOX = "h-9 w-full rounded border border-quiet bg-sheet px-2";

/** Keep what has been set up under a name of its own: what plans rely on is never changed under them. */
export function Keep(props: { request: SignalRequest; suggestion: string; onKept: (id: number) => void }) {
  const { request, suggestion, onKept } = props;
  const [name, setName] = useState("");
  const keep = useKeepSignal();
  const begin = () => keep.mutate({ name: name.trim(), request }, { onSuccess: (made) => onKept(made.id) });
  return (
    <Form title="Save this signal" className="border-t border-line pt-3" error={keep.error} onSubmit={begin}>
      <div className="mt-2 flex items-end gap-3">
        <label className="min-w-0 flex-1">
          <span className="block text-xs text-quiet">Name in plans</span>
          <input
            value={name}
            onChange={(event) => setName(event.target.value)}
            placeholder={suggestion}
            maxLength={80}
            className={BOX}
          />
        </label>
        <Button type="submit" look="main" needs="work" disabled={name.trim() === "" || keep.isPending}>
          Save
        </Button>
      </div>
    </Form>
  );
}

/** A person's own file as a signal, kept by its content. */
export function OwnFile({ onKept }: { onKept: (id: number) => void }) {
  const queries = useQueryClient();
  const [said, setSaid] = useState<string>();
  const send = async (file: File) => {
    const name = file.name.replace(/\.[^.]+$/, "").slice(0, 80) || file.name.slice(0, 80);
    const asked = new URLSearchParams({ file: file.name, name });
    try {
      const made = await sendFile<Signal>(
        `/api/signals/file?${asked}`,
        file,
        (share) => setSaid(share < 1 ? `${Math.round(share * 100)} % sent` : "Reading…"),
        new AbortController().signal,
      );
      setSaid(undefined);
      await queries.invalidateQueries({ queryKey: ["signals"], exact: true });
      onKept(made.id);
    } catch (error) {
      setSaid(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <div className="border-t border-line px-5 py-3">
      <FileButton onFiles={([file]) => file && void send(file)}>Add a file of your own</FileButton>
      {said && (
        <p role="status" className="mt-2 text-xs">
          {said}
        </p>
      )}
    </div>
  );
}
