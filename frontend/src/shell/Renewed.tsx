import { useRouteError } from "react-router";
import { Button } from "../ui/controls";

/** What stands in place of a page that could not be fetched: most often this server has a newer one by now. */
export function Renewed() {
  const error = useRouteError();
  const words = error instanceof Error ? error.message : String(error);
  return (
    <div role="alert" className="m-5 max-w-xl rounded-md border border-line bg-sheet p-5">
      <p className="font-semibold">This page could not be fetched.</p>
      <p className="mt-1 mb-4 text-quiet">
        The server may have been renewed since this window was opened, or it does not answer. ({words})
      </p>
      <Button onClick={() => window.location.reload()}>Load it again</Button>
    </div>
  );
}
