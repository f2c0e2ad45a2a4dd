"""Approving and undoing, one act at a time; two people at once; what may not be approved."""

from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from functools import partial

import psycopg
import pytest
from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import (
    approve,
    approve_build,
    history,
    latest_act,
    references_by_build,
    renders_of_build,
    undo,
)
from kind_echo.bench.decisions.of_builds import RendersChanged
from kind_echo.bench.decisions.references import CannotApprove, CannotUndo, current_reference
from kind_echo.bench.machines import BuildNotFound, EffectNotFound
from kind_echo.bench.runs import CellNotFound, cells_of
from kind_echo.core.registry.errors import BadParameter
from kind_echo.database.models import Build, Cell, Effect, Event, Reference, Run
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


def _build(session: Session, version: str) -> Build:
    query = select(Build).join(Effect).where(Effect.name == "Skerry", Build.version == version)
    return session.scalars(query).one()


def _done_on(build_id: int) -> Select[Cell]:
    return select(Cell).join(Run).where(Run.build_id == build_id, Cell.state == "done", Cell.render_id.is_not(None))


def _held(session: Session) -> dict[str, tuple[int, int]]:
    effect = session.scalars(select(Effect).where(Effect.name == "Skerry")).one()
    return {one.version: (one.current, one.earlier) for one in references_by_build(session, effect.id)}


def test_what_a_build_rendered_is_approved_as_one_act_without_what_is_not_fit_or_the_same(demo: str) -> None:
    with transaction() as session:
        build = _build(session, "2.1.0-rc2")
        found = renders_of_build(session, build.id)
        failing = found.cell_ids["Fail"]
        (before,) = _held(session).items()
    everything = sum(map(len, found.cell_ids.values())) + found.current + found.unfit + found.without_reading
    with transaction() as session:
        places = {(c.case.fingerprint, c.condition_id) for c in session.scalars(_done_on(build.id))}
        fingerprints = {(c.case.fingerprint, c.condition_id) for c in map(partial(session.get_one, Cell), failing)}
    assert (everything, len(failing)) == (len(places), len(fingerprints))
    assert found.current > 0
    assert found.unfit > 0
    with transaction() as session:
        act = approve_build(session, build.id, ["Fail"], expected=len(failing), who=WHO, why="meant", now=NOW)
    drain()
    with transaction() as session:
        held = _held(session)
        again = renders_of_build(session, build.id)
        made = session.scalar(select(func.count()).where(Reference.act_id == act.id))
    assert before[0] == "2.0.3"
    assert held["2.1.0-rc2"] == (len(failing), 0)
    assert sum(held["2.0.3"]) == sum(before[1])
    assert (made, again.cell_ids["Fail"], again.current) == (len(failing), [], found.current + len(failing))
    with transaction() as session:
        undo(session, act.id, who="Ivo K.", now=NOW)
    drain()
    with transaction() as session:
        assert _held(session) == {**dict([before]), "2.1.0-rc2": (0, len(failing))}


def test_a_build_is_not_approved_when_its_renders_are_not_those_that_were_seen(demo: str) -> None:
    with transaction() as session:
        build_id = _build(session, "2.1.0-rc2").id
        failing = len(renders_of_build(session, build_id).cell_ids["Fail"])
        last = latest_act(session)
    with pytest.raises(RendersChanged, match=f"and by now it would be {failing}"), transaction() as session:
        approve_build(session, build_id, ["Fail"], expected=failing + 1, who=WHO, why="", now=NOW)
    with pytest.raises(BadParameter), transaction() as session:
        approve_build(session, build_id, ["Waiting"], expected=0, who=WHO, why="", now=NOW)
    with pytest.raises(BuildNotFound), transaction() as session:
        approve_build(session, 999_999, ["Fail"], expected=1, who=WHO, why="", now=NOW)
    with pytest.raises(EffectNotFound), transaction() as session:
        references_by_build(session, 999_999)
    with transaction() as session:
        now = latest_act(session)
        assert (now and now.id) == (last and last.id)


def test_of_two_who_approve_a_build_at_once_the_second_is_told(demo: str) -> None:
    """Both have looked; the second waits for the first, and then looks at what that one has made."""
    with transaction() as session:
        build_id = _build(session, "2.1.0-rc2").id
        failing = len(renders_of_build(session, build_id).cell_ids["Fail"])

    def second() -> None:
        with transaction() as session:
            approve_build(session, build_id, ["Fail"], expected=failing, who="Ivo K.", why="", now=NOW)

    with ThreadPoolExecutor(1) as pool:
        with transaction() as session:
            approve_build(session, build_id, ["Fail"], expected=failing, who=WHO, why="", now=NOW)
            waiting = pool.submit(second)
            with pytest.raises(TimeoutError):
                waiting.result(timeout=1.0)
        with pytest.raises(RendersChanged):
            waiting.result(timeout=60.0)
