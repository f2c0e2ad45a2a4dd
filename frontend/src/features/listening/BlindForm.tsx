import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { Button } from "../../ui/controls";
import { FIELD } from "../../ui/fields";
import { RadioGroup } from "../../ui/RadioGroup";
import type { Asked } from "./address";
import { type Listening, type NewTest, outlookQuery, useMakeTest } from "./queries";

const WAYS = [
  { value: "abx", label: "Tell two apart", about: "Each trial plays one of the two; say which it is." },
  {
    value: "sequential",
    label: "Tell two apart, as long as it takes",
    about: "It ends when the answers suffice.",
  },
  { value: "order", label: "Order hidden", about: "Letters instead of names; grade, note, then see." },
  {
    value: "BS.1534",
    label: "Grades, 0 to 100",
    about: "ITU-R BS.1534-3: hidden reference and two anchors.",
  },
  {
    value: "BS.1116",
    label: "Grades of impairment, 1 to 5",
    about: "ITU-R BS.1116-3: one side and the hidden reference at a time.",
  },
] as const;
type WayName = (typeof WAYS)[number]["value"];

const DAY_MS = 24 * 60 * 60 * 1000;

/** Makes a blind test of what is heard, with its length set before anybody listens. */
export function BlindForm({
  asked,
  heard,
  subject,
  onClose,
}: {
  asked: Asked;
  /** The page that the sides came from. */
  subject: string;
  heard: Listening;
  onClose: () => void;
}) {
  const plain = asked.sides.filter((_, i) => !heard.sides[i]?.difference);
  const two = plain.length === 2;
  const [way, setWay] = useState<WayName>(two ? "abx" : "order");
  const [trials, setTrials] = useState(16);
  const [sittings, setSittings] = useState(1);
  const [often, setOften] = useState(7);
  const [name, setName] = useState(
    plain
      .map((one) => one.name)
      .join(" and ")
      .slice(0, 200),
  );
  const [until, setUntil] = useState("");
  const outlook = useQuery(outlookQuery(way === "abx" ? trials * sittings : 0, often / 10));
  const make = useMakeTest();
  const navigate = useNavigate();
  const apart = way === "abx" || way === "sequential";
  const rated = way === "BS.1534" || way === "BS.1116";
  const submit = () => {
    const body: NewTest = {
      asked: { ...asked, sides: plain },
      kind: apart ? "abx" : rated ? "rating" : "order",
      name,
      note: "",
      subject,
      trials: way === "sequential" ? 0 : way === "order" ? 1 : trials,
      heard: often / 10,
      false_alarm: 0.05,
      miss: 0.2,
      scale: rated ? way : null,
      sittings: apart ? sittings : 1,
      until: until ? new Date(`${until}T23:59:59`).toISOString() : null,
    };
    make.mutate(body, { onSuccess: (made) => navigate(`/listen/tests/${made.id}`) });
  };
  return (
    <form
      aria-label="Listen blind"
      className="grid gap-3 rounded-lg border border-line bg-sheet p-4"
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      <fieldset className="grid gap-2">
        <legend className="pb-1 font-semibold">Listen blind</legend>
        <RadioGroup
          name="How it is listened"
          value={way}
          ways={WAYS.map((one) => ({
            ...one,
            disabled: !two && (one.value === "abx" || one.value === "sequential"),
          }))}
          onChoose={(to) => {
            setWay(to);
            setTrials(to === "abx" ? 16 : 2);
          }}
          className="grid gap-2 leading-5"
        />
      </fieldset>
      {way !== "sequential" && way !== "order" && (
        <label className="flex items-center gap-2">
          {rated ? "Rounds" : "Trials"}
          <input
            type="number"
            min={rated ? 1 : 5}
            max={200}
            required
            value={trials}
            onChange={(event) => setTrials(Math.round(Number(event.target.value)))}
            className={`h-9 w-20 ${FIELD}`}
          />
        </label>
      )}
      {apart && (
        <label className="flex items-center gap-2">
          Sittings of each person
          <input
            type="number"
            min={1}
            max={20}
            required
            value={sittings}
            onChange={(event) => setSittings(Math.round(Number(event.target.value)))}
            className={`h-9 w-16 ${FIELD}`}
          />
        </label>
      )}
      {apart && (
        <label className="flex items-center gap-2 text-quiet">
          Who hears it is right
          <input
            type="number"
            min={6}
            max={9}
            step={1}
            value={often}
            onChange={(event) => setOften(Number(event.target.value))}
            className={`h-9 w-16 text-text ${FIELD}`}
          />
          times in 10
        </label>
      )}
      {way === "abx" && outlook.data && <p className="text-xs leading-5 text-quiet">{outlook.data.words}</p>}
      {rated && (
        <p className="text-xs leading-5 text-quiet">The first side, {plain[0]?.name}, is the reference.</p>
      )}
      <label className="grid gap-1">
        Name
        <input
          value={name}
          required
          maxLength={200}
          onChange={(event) => setName(event.target.value)}
          className={`h-9 ${FIELD}`}
        />
      </label>
      <label className="grid gap-1">
        Panel until (empty for none)
        <input
          type="date"
          value={until}
          min={new Date(Date.now() + DAY_MS).toISOString().slice(0, 10)}
          onChange={(event) => setUntil(event.target.value)}
          className={`h-9 ${FIELD}`}
        />
        <span className="text-xs text-quiet">Until then nobody sees results, nor do you.</span>
      </label>
      {make.error && <p role="alert">{make.error.message}</p>}
      <div className="flex gap-2">
        <Button type="submit" look="main" disabled={make.isPending || name.trim() === ""}>
          Make the test
        </Button>
        <Button onClick={onClose}>Cancel</Button>
      </div>
    </form>
  );
}
