import { queryOptions, useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { client, unwrap } from "../../api/client";
import { Button } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { Failed, Loading } from "../../ui/states";
import { reportFiles, TakeAway } from "../../ui/TakeAway";

const reportQuery = (number: number, appendix: boolean) =>
  queryOptions({
    queryKey: ["reports", number, appendix],
    queryFn: ({ signal }): Promise<string> =>
      unwrap(
        client.GET("/api/reports/runs/{number}.{form}", {
          params: { path: { number, form: "html" }, query: { appendix, cells: "", paper: "a4" } },
          parseAs: "text",
          signal,
        }),
      ),
  });

/** A run on paper, as the server writes it. */
export function ReportPage() {
  const run = Number(useParams().run);
  const navigate = useNavigate();
  const frame = useRef<HTMLIFrameElement>(null);
  const [all, setAll] = useState(false);
  const report = useQuery(reportQuery(run, all));
  const back = `/runs/${run}`;
  const print = () => frame.current?.contentWindow?.print();
  useKeys({ p: print, Escape: () => navigate(back) });
  return (
    <div className="flex min-h-0 flex-1 flex-col px-5 pt-3 pb-4">
      <div className="flex items-center gap-4 pb-3">
        <Link to={back} className="underline">
          The sheet
        </Link>
        <div className="ml-auto flex items-center gap-4">
          <Button onClick={() => setAll(!all)}>{all ? "Without every reading" : "With every reading"}</Button>
          <TakeAway what="the report" files={reportFiles("The report", `/api/reports/runs/${run}`)} />
          <Button look="main" hint="P" onClick={print}>
            Print
          </Button>
        </div>
      </div>
      {report.isPending && <Loading what="the report" />}
      {report.error && <Failed error={report.error} onRetry={() => report.refetch()} />}
      {report.data && (
        // It holds what people typed: nothing in it runs, and it can only be printed.
        <iframe
          ref={frame}
          title="Report"
          srcDoc={report.data}
          sandbox="allow-same-origin allow-modals"
          className="min-h-0 w-full flex-1 border border-line bg-white"
        />
      )}
    </div>
  );
}
