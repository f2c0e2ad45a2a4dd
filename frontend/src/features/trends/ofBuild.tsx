import { Link } from "react-router";
import type { Column } from "../../ui/Table";

/** The column of a build's figures, whose head leads to its run. */
export function ofBuild({ run_id, version }: { run_id: number; version: string }): Column {
  return {
    head: (
      <Link to={`/runs/${run_id}`} className="hover:underline">
        {version}
      </Link>
    ),
    name: `${run_id}`,
    className: "text-right",
  };
}
