import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { BASE } from "../../api/base";
import { Button } from "../../ui/controls";
import { useKeys } from "../../ui/keys";
import { Loading } from "../../ui/states";
import { reportFiles, TakeAway } from "../../ui/TakeAway";

/** A run on paper, as the server writes it. */
export function ReportPage() {
  const run = Number(useParams().run);
  const navigate = useNavigate();
  const frame = useRef<HTMLIFrameElement>(null);
  const [all, setAll] = useState(false);
  const [loading, setLoading] = useState(true);
  const back = `/runs/${run}`;
  const path = `/api/reports/runs/${run}`;
  const turn = () => {
    setLoading(true);
    setAll(!all);
  };
  const print = () => frame.current?.contentWindow?.print();
  useKeys({ p: print, Escape: () => navigate(back) });
  return (
    <div className="flex min-h-0 flex-1 flex-col px-5 pt-3 pb-4">
      <div className="flex items-center gap-4 pb-3">
        <Link to={back} className="underline">
          The sheet
        </Link>
        <div className="ml-auto flex items-center gap-4">
          <Button onClick={turn}>{all ? "Without every reading" : "With every reading"}</Button>
          <TakeAway what="the report" files={reportFiles("The report", path)} />
          <Button look="main" hint="P" onClick={print}>
            Print
          </Button>
        </div>
      </div>
      {loading && <Loading what="the report" />}
      <iframe
        ref={frame}
        title="Report"
        src={`${BASE}${path}.html?appendix=${all}`}
        onLoad={() => setLoading(false)}
        className={`min-h-0 w-full flex-1 border border-line bg-white ${loading ? "invisible" : ""}`}
      />
    </div>
  );
}
