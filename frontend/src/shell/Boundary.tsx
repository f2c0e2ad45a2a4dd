import { Component, type ReactNode } from "react";
import { useLocation } from "react-router";
import { Button } from "../ui/controls";

/** Shows its children, or what went wrong in them; at another address they are tried anew. */
export function Boundary({ children }: { children: ReactNode }) {
  const { pathname } = useLocation();
  return <Caught at={pathname}>{children}</Caught>;
}

interface State {
  caught: { error: unknown } | undefined;
}

class Caught extends Component<{ at: string; children: ReactNode }, State> {
  override state: State = { caught: undefined };

  static getDerivedStateFromError(error: unknown): State {
    return { caught: { error } };
  }

  override componentDidUpdate(before: { at: string }) {
    if (before.at !== this.props.at && this.state.caught) this.setState({ caught: undefined });
  }

  override render() {
    const { caught } = this.state;
    return caught ? <Renewed error={caught.error} /> : this.props.children;
  }
}

/** What stands in place of a page that could not be fetched: most often this server has a newer one by now. */
function Renewed({ error }: { error: unknown }) {
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
