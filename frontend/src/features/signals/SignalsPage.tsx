import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import type { Signal, SignalKind, SignalKinds, SignalRequest } from "../../api/client";
import { Sentence, Word } from "../../ui/controls";
import { count, kilohertz, number } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { Aliases } from "./Aliases";
import { Export } from "./Export";
import { Fields } from "./Fields";
import { Keep, OwnFile } from "./Keep";
import { Listen } from "./Listen";
import { Preview } from "./Preview";
import { previewQuery, signalKindsQuery, signalsQuery } from "./queries";
import { described, same } from "./request";

const SETTLE_MS = 300;

export function SignalsPage() {
  const signals = useQuery(signalsQuery);
  const kinds = useQuery(signalKindsQuery);
  const [search, setSearch] = useSearchParams();
  if (signals.isPending || kinds.isPending) return <Loading what="the signals" />;
  if (!signals.data) return <Failed error={signals.error} onRetry={() => signals.refetch()} />;
  if (!kinds.data) return <Failed error={kinds.error} onRetry={() => kinds.refetch()} />;
  const all = signals.data.signals;
  const asked = search.get("signal");
  const newKind = kinds.data.kinds.find((one) => one.key === search.get("kind"));
  const chosen = newKind ? undefined : (all.find((one) => String(one.id) === asked) ?? all[0]);
  const request = newKind ? { kind: newKind.key } : chosen?.request;
  const rate = Number(search.get("rate")) || 48_000;
  const put = (changes: Record<string, string>) =>
    setSearch((before) => ({ ...Object.fromEntries(before), ...changes }), { replace: true });
  return (
    <>
      <Stale error={signals.error} />
      <div className="flex min-h-0 flex-1">
        <List
          signals={all}
          kinds={kinds.data}
          chosen={chosen?.id}
          onChoose={(id) => setSearch({ signal: String(id), rate: String(rate) })}
          onNew={(kind) => setSearch({ kind, rate: String(rate) })}
        />
        <div className="min-w-0 flex-1 overflow-auto">
          {request ? (
            <Workshop
              key={chosen ? chosen.id : newKind?.key}
              signal={chosen}
              first={request}
              kinds={kinds.data}
              rate={rate}
              onRate={(next) => put({ rate: String(next) })}
              onKept={(id) => setSearch({ signal: String(id), rate: String(rate) })}
            />
          ) : (
            <Empty title="No signals yet.">
              Choose a kind on the left, look at it and listen to it, then keep it under a name: plans use it
              by that name.
            </Empty>
          )}
        </div>
      </div>
    </>
  );
}

function List(props: {
  signals: Signal[];
  kinds: SignalKinds;
  chosen: number | undefined;
  onChoose: (id: number) => void;
  onNew: (kind: string) => void;
}) {
  const { signals, kinds, chosen, onChoose, onNew } = props;
  const kindOf = (request: SignalRequest) => kinds.kinds.find((one) => one.key === request.kind);
  return (
    <nav aria-label="Signals" className="flex w-72 shrink-0 flex-col border-r border-line">
      <div className="px-5 pt-4 pb-3">
        <Word
          name="New signal"
          value=""
          choices={[
            { value: "", label: "New signal" },
            ...kinds.kinds.map((one) => ({ value: one.key, label: one.title })),
          ]}
          onChoose={(kind) => kind && onNew(kind)}
        />
      </div>
      <ul className="min-h-0 flex-1 overflow-auto border-t border-line">
        {signals.map((one) => (
          <li key={one.id} className="border-b border-line">
            <button
              type="button"
              aria-current={one.id === chosen}
              onClick={() => onChoose(one.id)}
              className="block w-full px-5 py-2 text-left hover:bg-sheet aria-[current=true]:bg-sheet aria-[current=true]:shadow-[inset_3px_0_0_var(--text)]"
            >
              <span className="font-semibold">{one.name}</span>
              <span className="block text-xs text-quiet">{described(one.request, kindOf(one.request))}</span>
              <span className="block text-xs text-quiet">
                {number(one.seconds, 1)} s,{" "}
                {one.used_by ? `in ${count(one.used_by, "case")}` : "not used yet"}
              </span>
            </button>
          </li>
        ))}
      </ul>
      <OwnFile onKept={(id) => onChoose(id)} />
    </nav>
  );
}

/** One signal: what it is, what to expect, how it looks and sounds; any change makes a new one. */
function Workshop(props: {
  signal: Signal | undefined;
  first: SignalRequest;
  kinds: SignalKinds;
  rate: number;
  onRate: (rate: number) => void;
  onKept: (id: number) => void;
}) {
  const { signal, first, kinds, rate, onRate, onKept } = props;
  const [request, setRequest] = useState<SignalRequest>(first);
  const settled = useSettled(request);
  const preview = useQuery(previewQuery(settled, rate));
  const kind: SignalKind | undefined = kinds.kinds.find((one) => one.key === request.kind);
  const changed = !signal || !same(request, signal.request);
  return (
    <div className="px-5 pb-8">
      <div className="flex flex-wrap items-center gap-x-5 pt-3 pb-2">
        <Sentence>
          <b className="font-semibold">{signal && !changed ? signal.name : (kind?.title ?? "Own file")}</b>
          {signal && changed && `, changed from ${signal.name},`} at{" "}
          <Word
            name="Rate"
            value={String(rate)}
            choices={kinds.rates.map((one) => ({ value: String(one), label: `${kilohertz(one)} kHz` }))}
            onChoose={(value) => onRate(Number(value))}
          />
          .
        </Sentence>
        <div className="ml-auto">
          <Listen request={request} rate={rate} />
        </div>
      </div>
      <div className="grid gap-x-7 gap-y-5 xl:grid-cols-[minmax(0,1fr)_21rem]">
        <div className="min-w-0">
          {preview.error ? (
            <p role="alert" className="rounded-md border border-line bg-sheet p-4">
              {preview.error.message}
            </p>
          ) : preview.data ? (
            <Preview preview={preview.data} />
          ) : (
            <Loading what="the preview" />
          )}
          {preview.data && !preview.error && <Aliases preview={preview.data} />}
        </div>
        <aside aria-label="About the signal" className="min-w-0 space-y-5">
          {kind && <About kind={kind} />}
          {kind && <Fields kind={kind} request={request} onChange={setRequest} />}
          {!kind && <p className="text-quiet break-words">{String(request.name ?? "")}</p>}
          {changed && kind && <Keep request={request} suggestion={kind.title} onKept={onKept} />}
          <Export
            kinds={kinds}
            request={settled}
            rate={rate}
            name={signal?.name ?? kind?.title ?? "signal"}
          />
        </aside>
      </div>
    </div>
  );
}

function About({ kind }: { kind: SignalKind }) {
  return (
    <dl className="space-y-2">
      {(
        [
          ["For", kind.purpose],
          ["Expect", kind.expect],
          ["Level", kind.level],
        ] as const
      ).map(([title, text]) => (
        <div key={title}>
          <dt className="text-xs text-quiet">{title}</dt>
          <dd>{text}</dd>
        </div>
      ))}
    </dl>
  );
}

/** A request once it has stopped changing: a preview for every key would be work for nothing. */
function useSettled(request: SignalRequest): SignalRequest {
  const [settled, setSettled] = useState(request);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(request), SETTLE_MS);
    return () => clearTimeout(timer);
  }, [request]);
  return settled;
}
