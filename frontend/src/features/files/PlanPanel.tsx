import { useState } from "react";
import { useNavigate } from "react-router";
import { Button } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { count } from "../../ui/numbers";
import { type FileSet, usePlanOfSet } from "./queries";

const FIELDS = [
  { name: "plan", label: "Plan", width: "w-64" },
  { name: "effect", label: "New effect", width: "w-44" },
  { name: "version", label: "Build of these files", width: "w-36" },
  { name: "host", label: "Host, rendered in by hand", width: "w-44" },
  { name: "host_version", label: "Its version", width: "w-24" },
] as const;

/** The set becomes a plan: what went in is its signal, the files are its references, the limits stay. */
export function PlanPanel({ set }: { set: FileSet }) {
  const [names, setNames] = useState({
    plan: set.name,
    effect: "",
    version: "",
    host: "",
    host_version: "1",
  });
  const make = usePlanOfSet(set.id);
  const navigate = useNavigate();
  const files = set.files.filter((file) => file.role !== "input").length;
  const left = make.data?.left_out ?? [];
  return (
    <form
      className="mx-5 mb-3 grid gap-3 rounded-md border border-line bg-sheet p-4"
      onSubmit={(event) => {
        event.preventDefault();
        make.mutate(names, {
          onSuccess: (made) => made.left_out.length === 0 && navigate(`/runs/${made.run_id}`),
        });
      }}
    >
      <p className="text-quiet">
        {count(files, "file")} become the references of a new effect, one setting each. Later builds are
        rendered by hand from the same signal, with a kit, and compared with them by the limits of this table.
      </p>
      <div className="flex flex-wrap items-end gap-3">
        {FIELDS.map(({ name, label, width }) => (
          <label key={name} className="grid gap-1">
            {label}
            <input
              value={names[name]}
              required
              maxLength={120}
              onChange={(event) => setNames({ ...names, [name]: event.target.value })}
              className={`h-9 ${FIELD} ${width}`}
            />
          </label>
        ))}
        <Button type="submit" look="main" disabled={make.isPending || make.isSuccess}>
          Make the plan
        </Button>
      </div>
      {make.error && <p role="alert">{make.error.message}</p>}
      {make.data && left.length > 0 && (
        <div role="status" className="grid gap-1">
          {left.map((one) => (
            <p key={one.name}>
              {one.name} was left out: {one.why}.
            </p>
          ))}
          <Button onClick={() => navigate(`/runs/${make.data.run_id}`)}>Go to the run</Button>
        </div>
      )}
    </form>
  );
}
