import { useState } from "react";
import type { Effect } from "../../api/client";
import { Button } from "../../ui/controls";
import { Fields, Form } from "../../ui/Form";
import { Labelled } from "../../ui/fields";
import { useAddBuild } from "./queries";

/** A build that a machine will have, or that somebody renders by hand: plans can be run on it from then on. */
export function NewBuild({ effect }: { effect: Effect }) {
  const add = useAddBuild(effect.name);
  const [version, setVersion] = useState("");
  const [note, setNote] = useState("");
  return (
    <Form
      title="A new build"
      about="Builds that a machine finds come by themselves; this is for one that is rendered by hand, or that a pattern of a command stands for."
      error={add.error}
      onSubmit={() =>
        add.mutate(
          { version: version.trim(), note: note.trim() },
          {
            onSuccess: () => {
              setVersion("");
              setNote("");
            },
          },
        )
      }
    >
      <Fields>
        <Labelled
          label="Version"
          required
          maxLength={80}
          value={version}
          onChange={(event) => setVersion(event.target.value)}
        />
        <div className="w-96 [&_input]:w-full">
          <Labelled
            label="Note"
            maxLength={400}
            value={note}
            onChange={(event) => setNote(event.target.value)}
          />
        </div>
        <Button type="submit" needs="work" disabled={version.trim() === "" || add.isPending}>
          Add the build
        </Button>
      </Fields>
    </Form>
  );
}
