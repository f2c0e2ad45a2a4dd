"""Approving and undoing, one act at a time; two people at once; what may not be approved."""

from datetime import UTC, datetime

import psycopg
import pytest
from sqlalchemy import select

from kind_echo.bench.decisions import approve, history, latest_act, undo
from kind_echo.bench.decisions.references import CannotApprove, CannotUndo, current_reference
from kind_echo.bench.runs import CellNotFound, cells_of
from kind_echo.database.models import Cell, Event
from kind_echo.database.sessions import transaction
from tests.conftest import drain, newest_run

NOW = datetime(2026, 11, 25, tzinfo=UTC)
WHO = "Nora F."


def _cells(version: str, verdict: str) -> list[int]:
    with transaction() as session:
        run = newest_run(session, version)
        return [c.id for c in cells_of(session, run.id) if c.verdict == verdict and not c.unfit]


def _verdicts(ids: list[int]) -> set[str]:
    with transaction() as session:
        return set(session.scalars(select(Cell.verdict).where(Cell.id.in_(ids))))


def test_a_selection_is_approved_as_one_act_and_undone_as_one_act(demo: str) -> None:
    failing = _cells("2.1.0-rc2", "Fail")
    with transaction() as session:
        act = approve(session, failing, who=WHO, why="meant", now=NOW)
    drain()
    assert _verdicts(failing) == {"Pass"}
    with transaction() as session:
        reference = current_reference(session, session.get_one(Cell, failing[0]))
        assert reference is not None
        assert reference.replaces_id is not None
        assert [r.act.who for r, _ in history(session, reference.id)] == [WHO, "Demo bench"]
        undo(session, act.id, who="Ivo K.", now=NOW)
    drain()
    assert _verdicts(failing) == {"Fail"}
    with transaction() as session:
        again = current_reference(session, session.get_one(Cell, failing[0]))
        assert again is not None
        assert again.act.who == "Demo bench"


def test_what_failed_integrity_cannot_be_approved_and_nothing_of_the_selection_is(demo: str) -> None:
    failing = _cells("2.1.0-rc2", "Fail")
    with transaction() as session:
        run = newest_run(session, "2.1.0-rc2")
        unfit = next(c.id for c in cells_of(session, run.id) if c.unfit)
        before = latest_act(session)
    with pytest.raises(CannotApprove, match="failed integrity"), transaction() as session:
        approve(session, [*failing, unfit], who=WHO, why="", now=NOW)
    with transaction() as session:
        assert latest_act(session).id == before.id
    with pytest.raises(CellNotFound), transaction() as session:
        approve(session, [999_999], who=WHO, why="", now=NOW)


def test_an_act_is_undone_once_and_not_from_under_a_later_one(demo: str) -> None:
    failing = _cells("2.1.0-rc2", "Fail")
    with transaction() as session:
        first = approve(session, failing[:2], who=WHO, why="", now=NOW)
    drain()
    with transaction() as session:
        second = approve(session, failing[:1], who="Ivo K.", why="", now=NOW)
    with pytest.raises(CannotUndo, match="1 of its references have been replaced"), transaction() as session:
        undo(session, first.id, who=WHO, now=NOW)
    with transaction() as session:
        undo(session, second.id, who=WHO, now=NOW)
    with pytest.raises(CannotUndo, match="has undone it already"), transaction() as session:
        undo(session, second.id, who="Ivo K.", now=NOW)


def test_the_event_log_cannot_be_edited(demo: str) -> None:
    with transaction() as session:
        assert "Demo bench" in session.scalars(select(Event.who))
    with psycopg.connect(demo) as connection, pytest.raises(psycopg.errors.RaiseException, match="never changed"):
        connection.execute("DELETE FROM event")
