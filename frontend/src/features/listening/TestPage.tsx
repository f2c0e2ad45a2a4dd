import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useCan, useMe } from "../../api/me";
import { Button, Sentence } from "../../ui/controls";
import { count, day, number } from "../../ui/numbers";
import { Failed, Loading, Stale } from "../../ui/states";
import { type Sitting, sittingQuery, type Test, testQuery, useDeleteTest, useSitDown } from "./queries";
import { ResultsView } from "./ResultsView";
import { TrialView } from "./TrialView";

export function TestPage() {
  const id = Number(useParams().test);
  const test = useQuery(testQuery(id));
  if (test.isPending) return <Loading what="the listening test" />;
  if (!test.data) return <Failed error={test.error} onRetry={() => test.refetch()} />;
  return (
    <>
      <Stale error={test.error} />
      <TestView key={id} test={test.data} />
    </>
  );
}

function TestView({ test }: { test: Test }) {
  const sit = useSitDown(test.id);
  const under = sit.data?.id ?? test.mine;
  // The one that was under way is shown once more when it is over.
  const [last, setLast] = useState(under);
  useEffect(() => setLast((before) => under ?? before), [under]);
  const sitting = useQuery(sittingQuery(under ?? last));
  const now: Sitting | undefined = sitting.data;
  return (
    <div className="flex min-h-0 flex-1 flex-col overflow-auto px-5 pt-3 pb-6">
      <TestSentence test={test} />
      <p className="pb-3 text-quiet">
        <Link to="/listen/tests" className="underline">
          Listening tests
        </Link>
        {" / "}
        {test.name}
        {test.note && `. ${test.note}`} <DeleteTest test={test} />
      </p>
      {now?.trial ? (
        <TrialView key={now.trial.number} test={test} sitting={now} trial={now.trial} />
      ) : (
        <Between
          test={test}
          ended={now}
          starting={sit.isPending}
          error={sit.error}
          onBegin={() => sit.mutate(undefined)}
        />
      )}
    </div>
  );
}

function TestSentence({ test }: { test: Test }) {
  const names = test.sides.filter((side) => !side.hidden).map((side) => side.name);
  const [first, second] = names;
  if (test.kind === "abx")
    return (
      <Sentence>
        Can <b className="font-semibold">{second}</b> be told from <b className="font-semibold">{first}</b>?
      </Sentence>
    );
  const graded = test.kind === "rating" ? names.slice(1) : names;
  return (
    <Sentence>
      Grade <b className="font-semibold">{listedNames(graded)}</b>
      {test.kind === "rating" ? (
        <>
          {" "}
          against <b className="font-semibold">{first}</b>
        </>
      ) : (
        ", in a hidden order"
      )}
      .
    </Sentence>
  );
}

const listedNames = (names: string[]) =>
  names.length > 3
    ? `${names.length} sides`
    : names.join(" and ").replace(" and ", names.length > 2 ? ", " : " and ");

/** Its maker, and whoever keeps things here, can delete it; what was answered is kept. */
function DeleteTest({ test }: { test: Test }) {
  const me = useMe();
  const keeps = useCan("keep");
  const works = useCan("work");
  const [sure, setSure] = useState(false);
  const remove = useDeleteTest(test.id);
  const navigate = useNavigate();
  if (!works || (me.name !== test.made_by && !keeps)) return null;
  if (!sure)
    return (
      <span className="pl-3">
        <Button small onClick={() => setSure(true)}>
          Delete the test…
        </Button>
      </span>
    );
  return (
    <span role="alert" className="inline-flex flex-wrap items-center gap-2 text-text">
      Delete it for everybody? Its clips go; what was answered goes on to count where these sides are tested
      again.
      <Button
        small
        look="main"
        disabled={remove.isPending}
        onClick={() => remove.mutate(undefined, { onSuccess: () => navigate("/listen/tests") })}
      >
        Delete
      </Button>
      <Button small onClick={() => setSure(false)}>
        Cancel
      </Button>
      {remove.error?.message}
    </span>
  );
}

/** Before a sitting and after it. */
function Between({
  test,
  ended,
  starting,
  error,
  onBegin,
}: {
  test: Test;
  ended: Sitting | undefined;
  starting: boolean;
  error: Error | null;
  onBegin: () => void;
}) {
  const seconds = (test.stop - test.start) / test.rate;
  const worst = Math.max(...test.sides.map((side) => Math.abs(side.error ?? 0)));
  return (
    <div className="grid gap-6 lg:grid-cols-[minmax(0,1fr)_20rem]">
      <div className="min-w-0">
        {test.results_hidden ? (
          <p className="leading-6">
            {ended ? "Thank you: your answers are in. " : ""}
            Results are hidden from everybody until {day(test.until ?? "")}.
          </p>
        ) : (
          <ResultsView test={test} mine={ended?.id} />
        )}
      </div>
      <aside className="grid content-start gap-3">
        <div>
          <Button
            look="main"
            onClick={onBegin}
            disabled={starting || test.closed || test.sat >= test.sittings}
          >
            {test.sat > 0 ? "Begin another sitting" : "Begin a sitting"}
          </Button>
        </div>
        <p className="text-quiet">
          {test.sittings === 1 ? "One sitting for each person" : `${test.sittings} sittings for each person`},
          set beforehand{test.sat > 0 && `; you have sat ${test.sat === 1 ? "once" : `${test.sat} times`}`}.
          {test.sat >= test.sittings &&
            " Whoever repeats a test until it succeeds will succeed by luck. For more trials, make another test."}
        </p>
        {test.closed && <p className="text-quiet">The test was open until {day(test.until ?? "")}.</p>}
        {error && <p role="alert">{error.message}</p>}
        <p className="leading-6">
          {test.outlook ||
            (test.kind === "order"
              ? "One round: every side stands behind a letter."
              : `${count(test.trials, "trial")}, each in an order of its own.`)}
        </p>
        <p className="text-xs leading-5 text-quiet">
          {number(seconds, 2)} s, looped, at {test.rate / 1000} kHz
          {test.band && `, ${test.band.map((edge) => number(edge, 0)).join(" to ")} Hz alone`}.{" "}
          {test.by === "none"
            ? "Levels as rendered."
            : `Levels matched by ${LEVELS[test.by]}, error at most ${number(worst, 2)} dB.`}{" "}
          The length is set beforehand.{" "}
          {test.kind === "abx" && "Right and wrong are shown after the last answer."}
        </p>
      </aside>
    </div>
  );
}

const LEVELS: Record<Exclude<Test["by"], "none">, string> = {
  rms: "RMS",
  loudness_integrated: "loudness",
  vu_max: "VU maximum",
  sample_peak: "sample peak",
  true_peak: "true peak",
};
