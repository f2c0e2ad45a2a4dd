"""Plans that run by themselves, on the newest build of their effects, at a time of day in a zone."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.plans import latest_revision, plan_numbered
from kind_echo.bench.runs import Archived, What, start_run
from kind_echo.core.registry.errors import BadParameter, Conflict, KindEchoError, NotFound
from kind_echo.database.models import Build, Event, Plan, Run, Schedule

MOST_SCHEDULES = 100
_MOST_PLANS = 50
_DAY_MINUTES = 1440


class ScheduleNotFound(NotFound):
    """A schedule is named that is not there."""

    def __init__(self, schedule_id: int) -> None:
        self.schedule_id = schedule_id
        super().__init__(f"There is no schedule {schedule_id}.")


class TooManySchedules(Conflict):
    """There are as many schedules as there may be."""

    def __init__(self) -> None:
        super().__init__(f"There are {MOST_SCHEDULES} schedules already; remove one first.")


def all_schedules(session: Session) -> list[Schedule]:
    """All of them, oldest first."""
    return list(session.scalars(select(Schedule).order_by(Schedule.id)))


def plans_of(session: Session, schedule: Schedule) -> list[Plan]:
    """The plans that a schedule runs, in its order; those that are there still."""
    found = {plan.id: plan for plan in session.scalars(select(Plan).where(Plan.id.in_(schedule.plan_ids)))}
    return [found[number] for number in schedule.plan_ids if number in found]


def add_schedule(
    session: Session,
    plan_ids: Sequence[int],
    days: Sequence[int],
    minute: int,
    zone: str,
    *,
    everything: bool = False,
    again: bool = False,
    who: str,
    now: datetime,
) -> Schedule:
    """Run plans from now on.

    Args:
        days: of the week, 0 for Monday.
        minute: of the day, in the zone.
        zone: as the time zone database names it: Europe/Berlin.
        everything: render all cells; else only what changed since earlier runs.
        again: also where the newest build has run at the plan's newest revision already.
    Raises:
        BadParameter: no plan, no day, a minute or a zone that is none.
        PlanNotFound: there is no such plan.
        TooManySchedules: there are enough.
    """
    plans, on = list(dict.fromkeys(plan_ids)), sorted(set(days))
    if not 0 < len(plans) <= _MOST_PLANS:
        raise BadParameter("plans", len(plans), f"1 to {_MOST_PLANS}")
    if not on or not set(on) <= set(range(7)):
        raise BadParameter("days", on, "days from 0 (Monday) to 6 (Sunday), one at least")
    if not 0 <= minute < _DAY_MINUTES:
        raise BadParameter("minute", minute, f"0 to {_DAY_MINUTES - 1}")
    for number in plans:
        plan_numbered(session, number)
    if len(all_schedules(session)) >= MOST_SCHEDULES:
        raise TooManySchedules
    schedule = Schedule(
        plan_ids=plans, days=on, minute=minute, zone=zone, everything=everything, again=again, made_by=who, made_at=now,
        next_at=next_time(on, minute, zone, now),
    )  # fmt: skip
    session.add(schedule)
    session.flush()
    _write(session, "schedule made", schedule, who, now)
    return schedule


def pause_schedule(session: Session, schedule_id: int, *, paused: bool, who: str, now: datetime) -> Schedule:
    """Let a schedule rest, or go on. Raises ScheduleNotFound."""
    schedule = _find(session, schedule_id)
    if paused != (schedule.paused_at is not None):
        schedule.paused_at = now if paused else None
        schedule.next_at = next_time(schedule.days, schedule.minute, schedule.zone, now)
        _write(session, "schedule paused" if paused else "schedule resumed", schedule, who, now)
    return schedule


def remove_schedule(session: Session, schedule_id: int, *, who: str, now: datetime) -> None:
    """Run plans by it no more; runs that it has started go on. Raises ScheduleNotFound."""
    schedule = _find(session, schedule_id)
    _write(session, "schedule removed", schedule, who, now)
    session.delete(schedule)


def next_time(days: Sequence[int], minute: int, zone: str, after: datetime) -> datetime:
    """The next moment of these days at that minute after another one, in UTC.

    Where the clocks of a zone go forward over that minute, it is as much later as they go; where they go back, it is
    the first of the two.

    Raises:
        BadParameter: there is no such zone.
    """
    try:
        there = ZoneInfo(zone)
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise BadParameter("zone", repr(zone), "a name of the time zone database, as Europe/Berlin or UTC") from error
    day = after.astimezone(there).date()
    for ahead in range(8):
        found = datetime(day.year, day.month, day.day, minute // 60, minute % 60, tzinfo=there) + timedelta(days=ahead)
        if found.weekday() in days and found.astimezone(UTC) > after:
            return found.astimezone(UTC)
    raise AssertionError("within a week and a day each of them comes once")


def run_due(session: Session, now: datetime) -> list[Run]:
    """Start what is due; one whose time passed while nothing was running is started once. The runs."""
    query = select(Schedule).where(Schedule.next_at <= now, Schedule.paused_at.is_(None)).order_by(Schedule.id)
    started: list[Run] = []
    for schedule in session.scalars(query.with_for_update(skip_locked=True)).all():
        told, runs = [], []
        for plan in plans_of(session, schedule):
            run, why = _start(session, schedule, plan, now)
            runs += [run] if run is not None else []
            told.append(f"{plan.effect.name}, {plan.name}: {why}")
        schedule.last_at, schedule.last_told = now, "; ".join(told) or "none of its plans is there any more"
        schedule.next_at = next_time(schedule.days, schedule.minute, schedule.zone, now)
        started += runs
    return started


def _start(session: Session, schedule: Schedule, plan: Plan, now: datetime) -> tuple[Run | None, str]:
    """The run of a plan on the newest build of its effect, or why there is none."""
    newest = select(Build).where(Build.effect_id == plan.effect_id, Build.archived_at.is_(None))
    build = session.scalars(newest.order_by(Build.position.desc()).limit(1)).first()
    if build is None:
        return None, "the effect has no build"
    if not schedule.again and _has_run(session, plan, build):
        return None, f"{build.version} has run already"
    render: What = "everything" if schedule.everything else "what changed"
    try:
        run = start_run(session, plan.id, build.id, who=f"{schedule.made_by}'s schedule", now=now, render=render)
    except Archived as error:
        return None, f"the {error.what} is archived"
    except KindEchoError as error:
        return None, str(error).rstrip(".")
    return run, f"run {run.id} on {build.version}"


def _has_run(session: Session, plan: Plan, build: Build) -> bool:
    revision = latest_revision(session, plan.id)
    query = select(Run.id).where(Run.revision_id == revision.id, Run.build_id == build.id, Run.search_id.is_(None))
    return session.scalar(query.limit(1)) is not None


def _find(session: Session, schedule_id: int) -> Schedule:
    found = session.get(Schedule, schedule_id, with_for_update=True)
    if found is None:
        raise ScheduleNotFound(schedule_id)
    return found


def _write(session: Session, what: str, schedule: Schedule, who: str, now: datetime) -> None:
    names = [f"{plan.effect.name}, {plan.name}" for plan in plans_of(session, schedule)]
    session.add(Event(at=now, who=who, what=what, detail={"schedule": schedule.id, "plans": names}))
