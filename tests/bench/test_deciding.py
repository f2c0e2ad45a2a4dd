"""Deciding: per cell and selection, waivers that end, two people at once, one undo; and how far a decision reaches."""

from datetime import UTC, date, datetime, timedelta

import pytest
from sqlalchemy import select

from kind_echo.bench.decisions import decide, last_act_number, standings, undecided, undo
from kind_echo.bench.decisions.deciding import CannotDecide, DecidedMeanwhile, Kind
from kind_echo.bench.decisions.references import CannotApprove
from kind_echo.bench.runs import CellNotFound, cells_of, list_runs
from kind_echo.bench.sheets import sheet_of
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.models import Act, Cell, Event
from kind_echo.database.sessions import transaction
from tests.conftest import newest_run

NOW = datetime(2026, 11, 25, 9, 0, tzinfo=UTC)
TODAY = NOW.date()
WHO = "Nora F."


def _failing(version: str = "2.1.0-rc2") -> list[int]:
    with transaction() as session:
        cells = cells_of(session, newest_run(session, version).id)
        return [c.id for c in cells if c.verdict == "Fail" and not c.unfit]


def _needs_you(version: str = "2.1.0-rc2", today: date = TODAY) -> int:
    """By the sheet; the count for the list of runs, which a query of its own makes, must be the same."""
    with transaction() as session:
        run = newest_run(session, version)
        count = sum(cell.needs_you for cell in sheet_of(session, run, today).cells)
        assert undecided(session, today, [run.id]).get(run.id, 0) == count
        return count


@pytest.mark.parametrize("kind", ["accepted", "fault", "waived"])
def test_a_decision_on_a_selection_is_one_act_with_one_undo_and_stands_in_the_log(demo: str, kind: Kind) -> None:
    failing = _failing()
    assert _needs_you() == len(failing) == 6
    with transaction() as session:
        act = decide(session, failing, kind, who=WHO, now=NOW, why="known", ticket="SALT-120", until=TODAY)
    assert _needs_you() == 0
    with transaction() as session:
        standing = standings(session, newest_run(session, "2.1.0-rc2"), TODAY)[failing[0]]
        assert (standing.kind, standing.who, standing.ticket, standing.holds) == (kind, WHO, "SALT-120", True)
        event = session.scalars(select(Event).order_by(Event.id.desc())).first()
        assert event is not None
        assert (event.who, event.detail["cells"]) == (WHO, failing)
        undo(session, act.id, who="Ivo K.", now=NOW)
    assert _needs_you() == 6


def test_a_waiver_holds_to_its_last_day_and_in_other_builds_while_nothing_else_breaks(demo: str) -> None:
    """The demo's people waived the silence of one host in the release, and nothing else."""
    with transaction() as session:
        waived = next(act for act in session.scalars(select(Act)) if act.kind == "waived")
        ends = waived.at.date() + timedelta(days=120)
    assert _needs_you(today=ends) == 6
    assert _needs_you(today=ends + timedelta(days=1)) == 18
    with transaction() as session:
        cells = [c for c in cells_of(session, newest_run(session, "2.1.0-rc2").id) if c.unfit]
        cells[0].broken = ["silent", "lead_in_excess"]
        session.flush()
        found = standings(session, newest_run(session, "2.1.0-rc2"), TODAY)
        assert not found.get(cells[0].id) or not found[cells[0].id].holds
        assert found[cells[1].id].holds
        assert not found[cells[1].id].here
        session.rollback()


def test_a_fault_of_one_build_does_not_hold_in_the_next_but_is_told_where_the_same_is_wrong(demo: str) -> None:
    with transaction() as session:
        first, second = newest_run(session, "2.1.0-rc1"), newest_run(session, "2.1.0-rc2")
        assert all(s.holds for s in standings(session, first, TODAY).values())
        places = {(c.case_id, c.condition_id): c for c in cells_of(session, second.id)}
        then = next(c for c in cells_of(session, first.id) if c.verdict == "Fail" and not c.unfit)
        now = places[then.case_id, then.condition_id]
        assert now.id not in standings(session, second, TODAY)
        now.verdict, now.broken = then.verdict, then.broken
        session.flush()
        before = standings(session, second, TODAY)[now.id]
        assert (before.kind, before.version, before.holds, before.here) == ("fault", "2.1.0-rc1", False, False)
        session.rollback()


@pytest.mark.parametrize(
    ("kind", "change", "error", "words"),
    [
        ("waived", {"why": " ", "until": TODAY}, BadParameter, "a waiver needs one"),
        ("waived", {"why": "known", "until": TODAY - timedelta(days=1)}, BadParameter, "not past"),
        ("waived", {"why": "known"}, BadParameter, "not past"),
    ],
)
def test_a_waiver_needs_a_reason_and_a_day(
    demo: str, kind: Kind, change: dict[str, object], error: type[Exception], words: str
) -> None:
    failing = _failing()
    with pytest.raises(error, match=words), transaction() as session:
        decide(session, failing, kind, who=WHO, now=NOW, **change)  # type: ignore[arg-type]
    assert _needs_you() == 6


def test_what_is_not_fit_or_passes_is_not_accepted_and_nothing_of_the_selection_is(demo: str) -> None:
    failing = _failing()
    with transaction() as session:
        cells = cells_of(session, newest_run(session, "2.1.0-rc2").id)
        unfit = next(c.id for c in cells if c.unfit)
        passing = next(c.id for c in cells if c.verdict == "Pass")
        before = last_act_number(session)
    for extra, kind, error in (
        (unfit, "accepted", CannotDecide), (passing, "accepted", CannotDecide), (unfit, "reference", CannotApprove),
        (999_999, "fault", CellNotFound),
    ):  # fmt: skip
        with pytest.raises(error), transaction() as session:
            decide(session, [*failing, extra], kind, who=WHO, now=NOW)  # type: ignore[arg-type]
    with transaction() as session:
        assert last_act_number(session) == before


def test_the_second_of_two_people_is_told_what_the_first_decided_and_may_decide_again(demo: str) -> None:
    failing = _failing()
    with transaction() as session:
        seen = last_act_number(session)
        decide(session, failing[:2], "fault", who="Ivo K.", now=NOW, why="wrong filter", seen=seen)
    told = r"Ivo K\. has decided on 2 of these cells.*wrong filter"
    with pytest.raises(DecidedMeanwhile, match=told) as caught, transaction() as session:
        decide(session, failing, "accepted", who=WHO, now=NOW, seen=seen)
    assert caught.value.who == "Ivo K."
    with transaction() as session:
        decide(session, failing[2:], "accepted", who=WHO, now=NOW, seen=seen)
        decide(session, failing[:2], "accepted", who=WHO, now=NOW, seen=caught.value.act_id)
    assert _needs_you() == 0
    with transaction() as session:
        seen = last_act_number(session)
        decide(session, failing[:1], "reference", who="Ivo K.", now=NOW, why="meant")
    with pytest.raises(DecidedMeanwhile, match="approved"), transaction() as session:
        decide(session, failing[:1], "fault", who=WHO, now=NOW, seen=seen)


def test_the_count_for_the_list_of_runs_is_that_of_the_sheet_for_every_run(demo: str) -> None:
    with transaction() as session:
        runs = list_runs(session)
        counted = undecided(session, TODAY, [summary.run.id for summary in runs])
        for summary in runs:
            sheet = sheet_of(session, summary.run, TODAY)
            assert counted.get(summary.run.id, 0) == sum(cell.needs_you for cell in sheet.cells)


def test_no_decision_stands_on_a_cell_that_passes(demo: str) -> None:
    failing = _failing()
    with transaction() as session:
        decide(session, failing[:1], "fault", who=WHO, now=NOW)
        cell = session.get_one(Cell, failing[0])
        cell.verdict, cell.broken = "Pass", []
        session.flush()
        assert not standings(session, cell.run, TODAY)[cell.id].holds
        session.rollback()
