"""A full disk and an absent database fail no cell; a job that kills its workers is given up; no reason holds SQL."""

import errno
from pathlib import Path
from typing import Any

import numpy as np
import psycopg
import pytest
from sqlalchemy import select, text, update
from sqlalchemy.exc import DataError, DBAPIError, OperationalError
from sqlalchemy.orm import Session

from kind_echo.bench.queue.jobs import analyse_cells, render_cells
from kind_echo.database.models import Cell
from kind_echo.database.sessions import brief_message, is_disk_full, is_temporary, transaction
from kind_echo.database.states import CellState
from kind_echo.renderers import stand_in
from kind_echo.web.app import create_app
from tests.conftest import drain, forked, query, wait_until
from tests.signing import sign


def _full(*_: object, **__: object) -> Any:
    raise OperationalError("INSERT INTO chunk VALUES (%s)", {"secret": 1}, psycopg.errors.DiskFull("No space left"))


def _greedy(heavy: str) -> None:
    """A worker that allocates 3 GB for one of the cells; its limit is 1 GB."""
    from kind_echo.bench.jobs import handlers
    from kind_echo.cli.workers.local import work_beside_database

    judge = handlers.judge_now  # type: ignore[attr-defined]

    def judge_now(session: Session, cell: Cell) -> Any:
        return np.ones(400_000_000) if cell.id == int(heavy) else None, judge(session, cell)

    handlers.judge_now = judge_now  # type: ignore[attr-defined]
    work_beside_database("small", (), analysis=True, memory=1000)


def _jobs(url: str) -> list[tuple[object, ...]]:
    return query(url, "SELECT status, attempts FROM procrastinate_jobs WHERE task_name = 'render_cell' ORDER BY id")


def test_renders_pause_while_the_disk_is_full_and_go_on_when_there_is_space(
    demo: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    from kind_echo.bench.jobs import handlers  # it wants a database

    with transaction() as session:
        cell = session.get_one(Cell, int(str(query(demo, "SELECT max(id) FROM cell WHERE state = 'done'")[0][0])))
        cell.state, cell.attempts, number = "waiting", 0, cell.id
        render_cells(session, stand_in.QUEUE, 0, [number])
    monkeypatch.setattr(handlers, "keep_render", _full)
    for attempt in range(7):  # more often than a cell is tried that breaks by itself
        drain([stand_in.QUEUE])
        assert query(demo, f"SELECT state, attempts FROM cell WHERE id = {number}") == [("rendering", 0)], attempt
        assert _jobs(demo) == [("todo", 0)]  # which says nothing of the job
        with transaction() as session:
            session.execute(text("UPDATE procrastinate_jobs SET scheduled_at = now() WHERE status = 'todo'"))
    monkeypatch.undo()
    drain()
    assert query(demo, f"SELECT state FROM cell WHERE id = {number}") == [("done",)]
    assert _jobs(demo) == []


@pytest.mark.parametrize(("state", "queue"), [("analysing", "analysis"), ("waiting", stand_in.QUEUE)])
def test_a_job_that_never_comes_to_an_end_is_given_up_and_says_so(demo: str, state: CellState, queue: str) -> None:
    """A dead worker's job is put back by another, which counts as an attempt; by itself it fails five times."""
    with transaction() as session:
        number = int(str(query(demo, "SELECT max(id) FROM cell WHERE state = 'done'")[0][0]))
        session.get_one(Cell, number).state = state
        if queue == "analysis":
            analyse_cells(session, [number])
        else:
            render_cells(session, queue, 0, [number])
        session.execute(text("UPDATE procrastinate_jobs SET attempts = 6 WHERE status = 'todo'"))
    drain([queue])
    state, why = query(demo, f"SELECT state, why FROM cell WHERE id = {number}")[0]  # type: ignore[assignment]
    assert state == "failed"
    assert "begun 6 times and never came to an end" in str(why)
    assert query(demo, "SELECT count(*) FROM procrastinate_jobs WHERE status = 'todo'") == [(0,)]


def test_a_page_says_that_the_disk_is_full_and_shows_no_sql(empty: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("kind_echo.web.references.routes.transaction", _full)
    answer: Any = sign(create_app().test_client()).get("/api/references")
    assert (answer.status_code, answer.json["title"]) == (507, "DiskFull")
    assert "INSERT" not in answer.text


def test_what_passes_by_itself_is_told_from_what_does_not(empty: str) -> None:
    with pytest.raises(DBAPIError) as wrong, transaction() as session:
        session.execute(update(Cell).values(attempts=10**12))
    assert isinstance(wrong.value, DataError)
    assert not is_temporary(wrong.value)
    assert brief_message(wrong.value) == "the database refused it (NumericValueOutOfRange: integer out of range)"
    assert is_temporary(OSError(errno.ENOSPC, "full"))
    assert is_disk_full(OSError(errno.ENOSPC, "full"))
    assert not is_temporary(OSError(errno.EACCES, "no"))
    assert not is_temporary(ValueError("no"))
    assert is_temporary(OperationalError("", {}, psycopg.OperationalError("gone")))


def test_a_job_that_needs_more_memory_than_it_may_take_fails_at_once_and_the_worker_goes_on(
    demo: str, tmp_path: Path
) -> None:
    with transaction() as session:
        cells = session.scalars(select(Cell).where(Cell.state == "done").order_by(Cell.id.desc()).limit(2)).all()
        heavy, light = (cell.id for cell in cells)
        for cell in cells:
            cell.state = "analysing"
        analyse_cells(session, [heavy, light])
    with forked(_greedy, str(heavy), url=demo, log=tmp_path / "worker.log"):
        left = f"SELECT count(*) FROM cell WHERE id IN ({heavy}, {light}) AND state = 'analysing'"
        wait_until(lambda: query(demo, left) == [(0,)], 60, "both")
        said = query(demo, "SELECT memory FROM worker WHERE machine = 'small'")
    assert query(demo, f"SELECT state FROM cell WHERE id = {light}") == [("done",)]
    ((state, why),) = query(demo, f"SELECT state, why FROM cell WHERE id = {heavy}")
    assert state == "failed"
    assert "needs more memory than a job may take" in str(why)
    assert query(demo, "SELECT attempts FROM procrastinate_jobs WHERE status = 'failed'") == [(1,)]
    assert said[0][0] is None or float(str(said[0][0])) > 50
