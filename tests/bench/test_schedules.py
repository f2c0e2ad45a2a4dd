"""Schedules: when plans run by themselves, on which build, and what is said of what did not run."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import select

from kind_echo.bench.plans import PlanNotFound, find_plan
from kind_echo.bench.queue import CLOCK_QUEUE
from kind_echo.bench.queue.adapter import defer
from kind_echo.bench.schedules import add_schedule, next_time, pause_schedule, plans_of, remove_schedule, run_due
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.models import Build, Event, Schedule
from kind_echo.database.sessions import transaction
from tests.conftest import drain

NOW = datetime(2026, 11, 30, 18, 0, tzinfo=UTC)  # a Monday
DAILY = tuple(range(7))


@pytest.mark.parametrize(("days", "minute", "zone", "after", "expected"), [
    (DAILY, 120, "UTC", "2026-11-30T18:00", "2026-12-01T02:00"),
    ((0,), 18 * 60, "UTC", "2026-11-30T18:00", "2026-12-07T18:00"),  # a moment does not come again at once
    ((4, 5), 30, "UTC", "2026-11-30T18:00", "2026-12-04T00:30"),
    (DAILY, 120, "Europe/Berlin", "2026-11-30T18:00", "2026-12-01T01:00"),
    (DAILY, 120, "Pacific/Auckland", "2026-11-30T18:00", "2026-12-01T13:00"),
    # The clocks of Berlin go forward from 2 to 3 on 28 March 2027, and back from 3 to 2 on 31 October 2027
    # (Directive 2000/84/EC: the last Sundays of March and October).
    (DAILY, 150, "Europe/Berlin", "2027-03-27T12:00", "2027-03-28T01:30"),
    (DAILY, 150, "Europe/Berlin", "2027-10-30T12:00", "2027-10-31T00:30"),
    (DAILY, 150, "Europe/Berlin", "2027-10-31T00:30", "2027-11-01T01:30"),  # and not twice in that night
])  # fmt: skip
def test_the_next_time_is_that_of_the_clock_on_the_wall(
    days: tuple[int, ...], minute: int, zone: str, after: str, expected: str
) -> None:
    found = next_time(days, minute, zone, datetime.fromisoformat(f"{after}+00:00"))
    assert found == datetime.fromisoformat(f"{expected}+00:00")


@given(
    st.sets(st.integers(0, 6), min_size=1),
    st.integers(0, 1439),
    st.sampled_from(["UTC", "Europe/Berlin", "America/New_York", "Australia/Lord_Howe", "Asia/Kolkata"]),
    st.integers(0, 1_000_000).map(lambda minutes: datetime(2026, 1, 1, tzinfo=UTC) + timedelta(minutes=minutes)),
)
def test_the_next_time_is_later_and_within_a_week_and_an_hour(
    days: set[int], minute: int, zone: str, after: datetime
) -> None:
    found = next_time(sorted(days), minute, zone, after)
    assert timedelta() < found - after <= timedelta(days=7, hours=1)
    again = next_time(sorted(days), minute, zone, found)
    assert timedelta(hours=22) <= again - found <= timedelta(days=7, hours=1)


def _schedule(**options: bool) -> int:
    with transaction() as session:
        plan = find_plan(session, "Null regression")
        made = add_schedule(session, [plan.id], DAILY, 120, "UTC", who="Nora F.", now=NOW, **options)
        assert plans_of(session, made) == [plan]
        return made.id


def test_the_newest_build_runs_when_it_is_due_and_only_where_it_has_not_run(demo: str) -> None:
    number = _schedule()
    with transaction() as session:
        assert run_due(session, NOW) == []  # not due yet
    later = NOW + timedelta(hours=9)
    with transaction() as session:
        assert run_due(session, later) == []
        told = session.get_one(Schedule, number)
        assert told.last_told == "Skerry, Null regression: 2.1.0-rc2 has run already"
        assert told.next_at == datetime(2026, 12, 2, 2, 0, tzinfo=UTC)
        newest = session.scalars(select(Build).where(Build.version == "2.1.0-rc2")).one()
        session.add(Build(effect_id=newest.effect_id, version="2.1.0-rc3", position=newest.position + 1, note=""))
    with transaction() as session:
        (run,) = run_due(session, later + timedelta(days=1))
        assert (run.build.version, run.requested_by) == ("2.1.0-rc3", "Nora F.'s schedule")
    with transaction() as session:
        assert run_due(session, later + timedelta(days=1)) == []  # once


def test_again_runs_what_has_run_and_what_was_missed_runs_once(demo: str) -> None:
    _schedule(again=True, everything=True)
    with transaction() as session:
        (run,) = run_due(session, NOW + timedelta(days=30))
        assert run.forced
        assert run.build.version == "2.1.0-rc2"
    with transaction() as session:
        assert run_due(session, NOW + timedelta(days=30)) == []


def test_an_archived_plan_is_said_and_others_run(demo: str) -> None:
    with transaction() as session:
        plans = [find_plan(session, name) for name in ("Null regression", "Real time against offline")]
        add_schedule(session, [p.id for p in plans], DAILY, 120, "UTC", again=True, who="Nora F.", now=NOW)
        plans[0].archived_at = NOW
    with transaction() as session:
        (run,) = run_due(session, NOW + timedelta(days=1))
        assert run.revision.plan.name == "Real time against offline"
        (schedule,) = session.scalars(select(Schedule))
        assert "Null regression: the plan is archived; " in schedule.last_told


def test_a_pause_holds_and_a_schedule_that_is_removed_is_gone(demo: str) -> None:
    number = _schedule(again=True)
    with transaction() as session:
        pause_schedule(session, number, paused=True, who="Tove L.", now=NOW)
    with transaction() as session:
        assert run_due(session, NOW + timedelta(days=3)) == []
        pause_schedule(session, number, paused=False, who="Tove L.", now=NOW + timedelta(days=3))
    with transaction() as session:
        assert run_due(session, NOW + timedelta(days=3)) == []  # what the pause kept back is not made up for
        remove_schedule(session, number, who="Tove L.", now=NOW)
    with transaction() as session:
        assert not session.scalars(select(Schedule)).all()
        kinds = session.scalars(select(Event.what).where(Event.what.startswith("schedule")).order_by(Event.id))
        assert list(kinds) == ["schedule made", "schedule paused", "schedule resumed", "schedule removed"]


@pytest.mark.parametrize(("days", "minute", "zone"), [
    ((), 0, "UTC"), ((7,), 0, "UTC"), ((0,), 1440, "UTC"), ((0,), -1, "UTC"), ((0,), 0, "Mars/Olympus"),
    ((0,), 0, "../../etc/passwd"), ((0,), 0, ""),
])  # fmt: skip
def test_a_time_that_is_none_is_refused(demo: str, days: tuple[int, ...], minute: int, zone: str) -> None:
    with transaction() as session:
        plan = find_plan(session, "Null regression").id
    with transaction() as session, pytest.raises(BadParameter):
        add_schedule(session, [plan], days, minute, zone, who="Nora F.", now=NOW)
    with transaction() as session, pytest.raises(PlanNotFound):
        add_schedule(session, [999_999], DAILY, 0, "UTC", who="Nora F.", now=NOW)


def test_the_clock_of_the_workers_starts_what_is_due(demo: str) -> None:
    number = _schedule(again=True)
    with transaction() as session:
        session.get_one(Schedule, number).next_at = datetime.now(UTC) - timedelta(minutes=1)
        defer(session, "keep_time", CLOCK_QUEUE, [0], [{"timestamp": 0}])
    drain(["clock"])
    with transaction() as session:
        assert session.get_one(Schedule, number).last_told.startswith("Skerry, Null regression: run ")
