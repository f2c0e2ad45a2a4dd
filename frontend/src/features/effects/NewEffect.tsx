import { useState } from "react";
import { Button } from "../../ui/controls";
import { Labelled } from "../../ui/fields";
import { useAddEffect } from "./queries";

/** An effect that no machine has installed: build servers upload its builds. */
export function NewEffect({ onAdded }: { onAdded: (name: string) => void }) {
  const add = useAddEffect();
  const [name, setName] = useState("");
  return (
    <form
      className="border-t border-line px-5 pt-4 pb-5"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate(
          { name: name.trim(), bare: true },
          {
            onSuccess: (made) => {
              setName("");
              onAdded(made.name);
            },
          },
        );
      }}
    >
      <h2 className="font-semibold">An effect whose builds are uploaded</h2>
      <p className="text-quiet">
        No machine needs to have it: <code>kind-echo submit --artefact</code> sends each build as a plug-in's
        file, and the first one tells its parameters.
      </p>
      <div className="mt-2 flex flex-wrap items-end gap-x-4 gap-y-2">
        <Labelled
          label="Name"
          required
          maxLength={80}
          value={name}
          onChange={(event) => setName(event.target.value)}
        />
        <Button type="submit" needs="keep" disabled={name.trim() === "" || add.isPending}>
          Add the effect
        </Button>
      </div>
      {add.error && (
        <p role="alert" className="mt-2">
          {add.error.message}
        </p>
      )}
    </form>
  );
}
