import { useState } from "react";
import { Button } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { Labelled } from "../../ui/fields";
import { useAddEffect } from "./queries";

/** An effect that no machine has installed: build servers upload its builds. */
export function NewEffect({ onAdded }: { onAdded: (name: string) => void }) {
  const add = useAddEffect();
  const [name, setName] = useState("");
  return (
    <Form
      title="An effect whose builds are uploaded"
      about={
        <>
          No machine needs to have it: <code>kind-echo submit --artefact</code> sends each build as a
          plug-in's file, and the first one tells its parameters.
        </>
      }
      error={add.error}
      onSubmit={() => {
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
      <Fields>
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
      </Fields>
    </Form>
  );
}
