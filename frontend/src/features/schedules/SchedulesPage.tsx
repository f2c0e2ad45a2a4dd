import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import type { Plan, Schedule } from "../../api/client";
import { useCan } from "../../api/me";
import { Check } from "../../ui/Checkbox";
import { Button } from "../../ui/controls";
import { Form } from "../../ui/Form";
import { Labelled } from "../../ui/fields";
import { count, dateTime, ended } from "../../ui/numbers";
import { Empty, Failed, Loading, Stale } from "../../ui/states";
import { ACTIONS, Table } from "../../ui/Table";
import { plansQuery } from "../plans/queries";
import { schedulesQuery, useAddSchedule, usePauseSchedule, useRemoveSchedule } from "./queries";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const WORKDAYS = [0, 1, 2, 3, 4];
const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC";

/** Plans that run by themselves on the newest build of their effects. */
export function SchedulesPage() {
  const found = useQuery(schedulesQuery);
  const plans = useQuery(plansQuery);
  const works = useCan("work");
  if (found.isPending || plans.isPending) return <Loading what="the schedules" />;
  if (!found.data) return <Failed error={found.error} onRetry={() => found.refetch()} />;
  const { schedules } = found.data;
  return (
    <div className="overflow-auto pb-8">
      <Stale error={found.error} />
      {works && <AddSchedule plans={plans.data?.plans.filter((one) => !one.archived) ?? []} />}
      {schedules.length === 0 ? (
        <Empty title="No schedules yet.">
          A schedule runs plans at a time of day, each on the newest build of its effect, unless that build
          has run already.
        </Empty>
      ) : (
        <Table
          caption={<>{count(schedules.length, "schedule")}, oldest first</>}
          columns={["Plans", "When", "Next", "Last", ACTIONS]}
        >
          {schedules.map((one) => (
            <ScheduleRow key={one.id} schedule={one} />
          ))}
        </Table>
      )}
    </div>
  );
}

function AddSchedule({ plans }: { plans: Plan[] }) {
  const [chosen, setChosen] = useState<number[]>([]);
  const [days, setDays] = useState<number[]>(WORKDAYS);
  const [time, setTime] = useState("02:00");
  const [zone, setZone] = useState(HERE);
  const [again, setAgain] = useState(false);
  const [everything, setEverything] = useState(false);
  const add = useAddSchedule();
  const toggled = (list: number[], value: number, on: boolean) =>
    on ? [...list, value] : list.filter((one) => one !== value);
  return (
    <Form
      title="Add a schedule"
      about="On the newest build of their effects."
      main
      className="px-5 pt-4 pb-4"
      error={add.error}
      onSubmit={() => {
        const [hours = 0, minutes = 0] = time.split(":").map(Number);
        add.mutate(
          { plan_ids: chosen, days, minute: 60 * hours + minutes, zone, again, everything },
          { onSuccess: () => setChosen([]) },
        );
      }}
    >
      <fieldset className="mt-2">
        <legend className="font-semibold">Plans</legend>
        <div className="grid grid-cols-2 gap-x-6 gap-y-1 pt-1 xl:grid-cols-3">
          {plans.map((plan) => (
            <Check
              key={plan.id}
              label={`${plan.effect}, ${plan.name}`}
              checked={chosen.includes(plan.id)}
              onChange={(on) => setChosen(toggled(chosen, plan.id, on))}
            />
          ))}
          {plans.length === 0 && <p className="text-quiet">There is no plan yet.</p>}
        </div>
      </fieldset>
      <div className="mt-3 flex flex-wrap items-end gap-x-5 gap-y-2">
        <fieldset>
          <legend className="pb-1">Days</legend>
          <div className="flex h-9 items-center gap-3">
            {DAYS.map((name, day) => (
              <Check
                key={name}
                label={name}
                checked={days.includes(day)}
                onChange={(on) => setDays(toggled(days, day, on))}
              />
            ))}
          </div>
        </fieldset>
        <Labelled
          label="At"
          type="time"
          required
          value={time}
          onChange={(event) => setTime(event.target.value)}
        />
        <Labelled
          label="Time zone"
          required
          maxLength={100}
          value={zone}
          onChange={(event) => setZone(event.target.value)}
        />
        <div className="flex h-9 items-center gap-4">
          <Check label="Also a build that has run already" checked={again} onChange={setAgain} />
          <Check label="Render everything" checked={everything} onChange={setEverything} />
        </div>
        <Button
          look="main"
          type="submit"
          disabled={add.isPending || chosen.length === 0 || days.length === 0}
        >
          Add
        </Button>
      </div>
    </Form>
  );
}

function ScheduleRow({ schedule }: { schedule: Schedule }) {
  const pause = usePauseSchedule();
  const remove = useRemoveSchedule();
  const paused = schedule.paused_at !== null;
  const error = pause.error ?? remove.error;
  return (
    <tr>
      <td>
        {schedule.plans.map((plan) => (
          <p key={plan.id}>
            <Link to={`/plans/${plan.id}`} className="font-semibold hover:underline">
              {plan.effect}, {plan.name}
            </Link>
          </p>
        ))}
        <p className="text-xs text-quiet">
          {schedule.again ? "Each time" : "Only a build that has not run"}
          {schedule.everything && ", all cells rendered anew"}. {ended(`Made by ${schedule.made_by}`)}
        </p>
      </td>
      <td>
        {daysText(schedule.days)}, {timeText(schedule.minute)}
        <p className="text-xs text-quiet">{schedule.zone}</p>
      </td>
      <td className="whitespace-nowrap">
        {paused ? <span className="text-quiet">paused</span> : dateTime(schedule.next_at)}
      </td>
      <td className="max-w-96">
        {schedule.last_at ? dateTime(schedule.last_at) : <span className="text-quiet">not yet</span>}
        {schedule.last_told && <p className="text-xs break-words text-quiet">{schedule.last_told}</p>}
      </td>
      <td>
        <div className="flex items-center justify-end gap-2">
          {error && <p role="alert">{error.message}</p>}
          <Button
            small
            needs="work"
            disabled={pause.isPending}
            onClick={() => pause.mutate({ id: schedule.id, paused: !paused })}
          >
            {paused ? "Resume" : "Pause"}
          </Button>
          <Button small needs="work" disabled={remove.isPending} onClick={() => remove.mutate(schedule.id)}>
            Remove
          </Button>
        </div>
      </td>
    </tr>
  );
}

const timeText = (minute: number): string =>
  `${String(Math.floor(minute / 60)).padStart(2, "0")}:${String(minute % 60).padStart(2, "0")}`;

function daysText(days: number[]): string {
  if (days.length === DAYS.length) return "Every day";
  if (days.join() === WORKDAYS.join()) return "Monday to Friday";
  return days.map((day) => DAYS[day]).join(", ");
}
