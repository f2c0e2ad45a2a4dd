import type { Standing } from "../../api/client";
import { dateTime } from "../../ui/numbers";

const SAID = { accepted: "Accepted", fault: "A fault", waived: "Waived" };

/** What was decided, by whom and why; and when it holds no more, that it does not. */
export function StandingText({ standing }: { standing: Standing }) {
  const { kind, who, at, why, ticket, until, version, holds, here } = standing;
  return (
    <>
      <b className="font-semibold">
        {holds ? "" : "Before: "}
        {SAID[kind]}
        {until && ` until ${dayOf(until)}`}
      </b>
      {ticket && <>, {isAddress(ticket) ? <Ticket address={ticket} /> : ticket}</>}
      {!here && `, in ${version}`}, by {who}, {dateTime(at)}.{why && ` ${why}.`}
    </>
  );
}

const isAddress = (text: string) => /^https?:\/\/\S+$/.test(text);

function Ticket({ address }: { address: string }) {
  return (
    <a href={address} rel="noreferrer" target="_blank" className="underline">
      {address.replace(/^https?:\/\//, "")}
    </a>
  );
}

const dayOf = (day: string) =>
  new Date(`${day}T12:00:00`).toLocaleDateString("en-GB", {
    day: "numeric",
    month: "short",
    year: "numeric",
  });
