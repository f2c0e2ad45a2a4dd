import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useCan, useMe } from "../../api/me";
import { Button } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { number } from "../../ui/numbers";
import { notesQuery, useAddNote, useChangeWords, useDeleteNote } from "./queries";

/** What was heard of the sides, by whom; words of the house are picked, free text is always there. */
export function Notes({
  subject,
  sides,
  side,
  second,
}: {
  subject: string;
  sides: string[];
  /** The one that is heard. */
  side: number;
  second: number;
}) {
  const found = useQuery(notesQuery(subject));
  const add = useAddNote(subject);
  const [text, setText] = useState("");
  const [editing, setEditing] = useState(false);
  const works = useCan("work");
  const keeps = useCan("keep");
  const words = found.data?.words ?? [];
  return (
    <section aria-label="Notes">
      <h2 className="pb-1 font-semibold">Heard</h2>
      <NoteList subject={subject} />
      {works && (
        <form
          className="grid gap-2 pt-2"
          onSubmit={(event) => {
            event.preventDefault();
            if (text.trim())
              add.mutate(
                { side: sides[side] ?? "", second, text: text.trim() },
                { onSuccess: () => setText("") },
              );
          }}
        >
          <label className="grid gap-1">
            <span className="text-xs text-quiet">
              Of {sides[side]}, at {number(second, 2)} s
            </span>
            <textarea
              value={text}
              rows={2}
              maxLength={2000}
              onChange={(event) => setText(event.target.value)}
              className={`${FIELD} py-1`}
            />
          </label>
          <div className="flex flex-wrap gap-1">
            {words.map((word) => (
              <button
                key={word}
                type="button"
                onClick={() => setText((now) => (now ? `${now}, ${word}` : word))}
                className="rounded border border-line px-1.5 text-xs leading-6 text-quiet hover:border-quiet hover:text-text"
              >
                {word}
              </button>
            ))}
            {keeps && (
              <button
                type="button"
                onClick={() => setEditing(!editing)}
                className="px-1.5 text-xs leading-6 underline"
              >
                Vocabulary…
              </button>
            )}
          </div>
          {editing && <Words words={words} onDone={() => setEditing(false)} />}
          {add.error && <p role="alert">{add.error.message}</p>}
          <div>
            <Button small type="submit" disabled={add.isPending || text.trim() === ""}>
              Save the note
            </Button>
          </div>
        </form>
      )}
    </section>
  );
}

/** The notes on a page, oldest first. */
export function NoteList({ subject }: { subject: string }) {
  const found = useQuery(notesQuery(subject));
  const remove = useDeleteNote(subject);
  const me = useMe();
  const keeps = useCan("keep");
  if (found.error && !found.data) return <p role="alert">{found.error.message}</p>;
  const notes = found.data?.notes ?? [];
  if (notes.length === 0) return <p className="text-xs text-quiet">No notes yet.</p>;
  return (
    <ul className="grid gap-1.5">
      {notes.map((note) => (
        <li key={note.id} className="group leading-5">
          {note.text}
          <span className="block text-xs text-quiet">
            {note.side}
            {note.second !== null && `, ${number(note.second, 2)} s`} · {note.who}
            {(keeps || note.who === me.name) && (
              <button
                type="button"
                aria-label={`Delete the note of ${note.who} on ${note.side}`}
                onClick={() => remove.mutate(note.id)}
                className="ml-2 underline"
              >
                Delete
              </button>
            )}
          </span>
        </li>
      ))}
    </ul>
  );
}

function Words({ words, onDone }: { words: string[]; onDone: () => void }) {
  const [text, setText] = useState(words.join(", "));
  const change = useChangeWords();
  return (
    <div className="grid gap-1">
      <label className="grid gap-1 text-xs text-quiet">
        Vocabulary, separated by commas
        <input
          value={text}
          onChange={(event) => setText(event.target.value)}
          className={`h-8 text-text ${FIELD}`}
        />
      </label>
      {change.error && <p role="alert">{change.error.message}</p>}
      <div>
        <Button
          small
          onClick={() =>
            change.mutate(
              text
                .split(",")
                .map((word) => word.trim())
                .filter(Boolean),
              { onSuccess: onDone },
            )
          }
        >
          Save the vocabulary
        </Button>
      </div>
    </div>
  );
}
