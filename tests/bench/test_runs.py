"""Runs survive the death of a worker and an absence of the database: no cell is lost, none is counted twice."""

import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Literal

import pytest
from ops.cluster import Cluster
from sqlalchemy import func, select, text

from kind_echo.bench.decisions import approve
from kind_echo.bench.plans import (
    BuildNotOfPlan,
    CaseDraft,
    PlanNotFound,
    find_build,
    find_plan,
    latest_revision,
    null_test_limits,
    revise_plan,
)
from kind_echo.bench.queue import render_cells
from kind_echo.bench.rendering import render_key, steps
from kind_echo.bench.runs import RunNotFound, cells_of, put_first, render_again, resume_run, start_run, stop_run
from kind_echo.bench.runs.running import CannotRenderAgain
from kind_echo.database.models import Cell, Condition, Event, Plan, Render, Run
from kind_echo.database.sessions import URL_VARIABLE, transaction
from kind_echo.renderers import stand_in
from kind_echo.renderers.plugins.offering import PluginRenderer
from kind_echo.renderers.plugins.standards import LV2
from tests.conftest import drain, kind_echo, newest_run, query, unfinished, wait_until, working


@pytest.fixture
def short(demo: str) -> str:
    """The demo with a plan of two of its cases, 24 cells, beside the demo's own; the references serve both."""
    _write_short()
    return demo


def _write_short() -> None:
    with transaction() as session:
        whole = latest_revision(session, find_plan(session, "Null regression").id)
        plan = Plan(effect_id=whole.plan.effect_id, name="Short")
        session.add(plan)
        session.flush()
        limits = null_test_limits()
        drafts = [CaseDraft(case.signal, case.setting, limits) for case in (whole.cases[2], whole.cases[4])]
        conditions = [session.get_one(Condition, number) for number in whole.condition_ids]
        revise_plan(session, plan, drafts, conditions, datetime.now(UTC))


def _start(version: str, render: Literal["what changed", "everything"] = "everything") -> int:
    with transaction() as session:
        plan = find_plan(session, "Short")
        build = find_build(session, plan, version)
        return start_run(session, plan.id, build.id, who="Nora F.", now=datetime.now(UTC), render=render).id


def _counts(run: int) -> tuple[int, int, int]:
    """Cells, cells done, and renders that cells of the run point at."""
    with transaction() as session:
        cells = cells_of(session, run)
        done = [c for c in cells if c.state == "done"]
        renders = {c.render_id for c in done}
        return len(cells), len(done), len(renders)


def test_a_worker_killed_in_a_render_loses_nothing(short: str, tmp_path: Path) -> None:
    run = _start("2.1.0-rc2")
    log = tmp_path / "worker.log"
    with working(url=short, log=log) as first:
        wait_until(lambda: bool(query(short, "SELECT 1 FROM cell WHERE state = 'rendering'")), 30, "a render")
        first.kill()
        first.join()
    assert unfinished(short) > 0
    with working(url=short, log=log), working(url=short, log=log):
        wait_until(lambda: unfinished(short) == 0, 60, "the rest of the run", moves=lambda: unfinished(short))
    assert _counts(run) == (24, 24, 24)
    with transaction() as session:
        used = set(session.scalars(select(Cell.render_id)))
        assert session.scalar(select(func.count()).select_from(Render)) == len(used)


def test_workers_and_a_run_outlive_ten_seconds_without_the_database(
    own_demo: str, own_cluster: Cluster, tmp_path: Path
) -> None:
    _write_short()
    run = _start("2.0.3")
    port = int((own_cluster.folder / "port").read_text())
    with working(url=own_demo, log=tmp_path / "worker.log") as worker:
        wait_until(lambda: _counts(run)[1] >= 3, 60, "the first cells")
        own_cluster.stop("immediate")
        time.sleep(10)
        own_cluster.start(port)
        wait_until(lambda: unfinished(own_demo) == 0, 60, "the rest of the run", moves=lambda: unfinished(own_demo))
        assert worker.is_alive()
    assert _counts(run) == (24, 24, 24)


def test_a_run_from_the_command_line_waits_for_its_verdicts(short: str, tmp_path: Path) -> None:
    environment = {URL_VARIABLE: short}
    with working(url=short, log=tmp_path / "worker.log"):
        done = kind_echo("run", "Short", "2.1.0-rc2", "--who", "Nora F.", "--everything", **environment)  # type: ignore[arg-type]
    assert done.returncode == 1, done.stderr
    assert "7 Fail, 17 Pass" in done.stdout
    refused = kind_echo("run", "Null regression", "9.9", **environment)  # type: ignore[arg-type]
    assert (refused.returncode, refused.stdout) == (2, "")
    assert refused.stderr.strip() == "kind-echo: There is no build 9.9 of the effect that this plan tests."


def test_a_plan_or_build_that_is_not_there_is_refused(seen: str) -> None:
    with pytest.raises(PlanNotFound), transaction() as session:
        find_plan(session, "Nothing")
    with transaction() as session:
        plan = find_plan(session, "Null regression")
        before = session.scalar(select(func.count()).select_from(Run))
    with pytest.raises(BuildNotOfPlan), transaction() as session:
        start_run(session, plan.id, 999, who="Nora F.", now=datetime.now(UTC))
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(Run)) == before


def _verdicts(run: int) -> list[tuple[str, str, list[str]]]:
    with transaction() as session:
        return [(cell.verdict, cell.why, cell.broken) for cell in cells_of(session, run)]


def test_only_what_changed_is_rendered_again_and_the_verdicts_are_the_same(short: str) -> None:
    first = _start("2.1.0-rc2")
    drain()
    with transaction() as session:
        renders = session.scalar(select(func.count()).select_from(Render))
    again = _start("2.1.0-rc2", "what changed")
    drain()
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(Render)) == renders
        assert all(cell.reused and cell.state == "done" for cell in cells_of(session, again))
        # The plan is another than the demo's, and takes over from it all the same: the digest knows no plan.
        assert not any(cell.reused for cell in cells_of(session, first))
    assert _verdicts(first) == _verdicts(again)


def test_a_reference_that_changed_is_laid_under_renders_that_are_taken_over(short: str) -> None:
    with transaction() as session:
        run = newest_run(session, "2.1.0-rc2")
        failing = [c.id for c in cells_of(session, run.id) if c.verdict == "Fail" and not c.unfit]
        approve(session, failing, who="Nora F.", why="meant", now=datetime.now(UTC))
    again = _start("2.1.0-rc2", "what changed")
    drain()
    with transaction() as session:
        cells = [c for c in cells_of(session, again) if not c.unfit]
        assert {(c.reused, c.verdict) for c in cells} == {(True, "Pass")}


@pytest.mark.parametrize(
    "change",
    [
        lambda cell: setattr(cell.case, "takes", 2),
        lambda cell: setattr(cell.case.setting, "parameters", {**cell.case.setting.parameters, "drive": 6.1}),
        lambda cell: setattr(cell.case.signal, "request", {**cell.case.signal.request, "level": -6.1}),
        lambda cell: setattr(cell.condition, "block_size", 64),
        lambda cell: setattr(cell.condition, "host_version", "8"),
        lambda cell: setattr(cell.run.build, "version", "2.0.3"),
    ],
)
def test_whatever_a_render_depends_on_changes_its_key(seen: str, change: Callable[[Cell], None]) -> None:
    renderer = stand_in.StandInRenderer()
    with transaction() as session:
        cell = cells_of(session, newest_run(session, "2.1.0-rc2").id)[0]
        before = render_key(renderer, cell)
        assert cell.render is not None
        assert cell.render.key == before
        change(cell)
        assert render_key(renderer, cell) not in (before, None)
        session.rollback()


def test_a_renderer_that_cannot_tell_what_it_is_made_of_renders_every_time(seen: str) -> None:
    with transaction() as session:
        cell = cells_of(session, newest_run(session, "2.1.0-rc2").id)[0]
        assert render_key(PluginRenderer(LV2), cell) is None


def test_a_run_that_is_stopped_renders_no_more_and_goes_on_where_it_was(short: str) -> None:
    run = _start("2.1.0-rc2")
    with transaction() as session:
        stop_run(session, run, who="Nora F.", now=datetime.now(UTC))
    drain()
    assert _counts(run)[1] == 0
    with transaction() as session:
        assert session.get_one(Run, run).stopped_by == "Nora F."
        with pytest.raises(RunNotFound):
            stop_run(session, 999, who="Nora F.", now=datetime.now(UTC))
        resume_run(session, run, who="Ivo K.", now=datetime.now(UTC))
    drain()
    assert _counts(run) == (24, 24, 24)
    with transaction() as session:
        said = [e.what for e in session.scalars(select(Event).where(Event.detail["run"].as_integer() == run))]
    assert said == ["run started", "run stopped", "run resumed"]


def test_a_run_that_is_stopped_while_it_is_prepared_leaves_no_job_behind(
    short: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever prepares it has looked for a while which cells must be rendered when somebody stops it."""
    looking, stopped = threading.Event(), threading.Event()
    look = steps.take_over  # type: ignore[attr-defined]

    def slowly(*given: Any) -> list[Cell]:
        found = look(*given)
        looking.set()
        assert stopped.wait(30)
        return found

    monkeypatch.setattr(steps, "take_over", slowly)
    run = _start("2.1.0-rc2", "what changed")
    with ThreadPoolExecutor(1) as pool:
        drained = pool.submit(drain)
        assert looking.wait(30)
        with transaction() as session:
            stop_run(session, run, who="Nora F.", now=datetime.now(UTC))
        stopped.set()
        drained.result()
    left = "SELECT count(*) FROM procrastinate_jobs WHERE task_name IN ('render_cell', 'prepare_run')"
    assert query(short, left) == [(0,)]
    monkeypatch.setattr(steps, "take_over", look)
    with transaction() as session:
        resume_run(session, run, who="Nora F.", now=datetime.now(UTC))
    drain()
    assert _counts(run)[0] == 24


def test_a_cell_whose_worker_died_before_the_run_was_stopped_is_not_lost(short: str) -> None:
    run = _start("2.1.0-rc2")
    with transaction() as session:
        found = session.get_one(Run, run)
        cell = cells_of(session, run)[0]
        cell.state = "rendering"
        stop_run(session, run, who="Nora F.", now=datetime.now(UTC))
        render_cells(session, stand_in.QUEUE, found.priority, [cell.id])  # as the dead worker's job comes back
    drain()
    with transaction() as session:
        resume_run(session, run, who="Nora F.", now=datetime.now(UTC))
    drain()
    assert _counts(run) == (24, 24, 24)


def test_what_cannot_even_be_prepared_is_a_row_with_the_reason(short: str, monkeypatch: pytest.MonkeyPatch) -> None:
    from kind_echo.bench.jobs import handlers as jobs  # wants a database when it is loaded

    def broken(*_: object) -> str:
        raise OSError("the disk with the builds is gone")

    monkeypatch.setattr(stand_in.StandInRenderer, "artefact", broken)
    monkeypatch.setattr(jobs, "MOST_ATTEMPTS", 1)
    run = _start("2.1.0-rc2", "what changed")
    drain()
    with transaction() as session:
        assert {(c.state, c.verdict) for c in cells_of(session, run)} == {("failed", "No reading")}
        assert "the disk with the builds is gone" in cells_of(session, run)[0].why


def test_a_run_that_is_put_first_is_rendered_before_the_others(short: str) -> None:
    first, second = _start("2.0.3"), _start("2.1.0-rc2")
    with transaction() as session:
        put_first(session, second, who="Nora F.", now=datetime.now(UTC))
    drain()
    with transaction() as session:
        times = {run: [c.render.rendered_at for c in cells_of(session, run) if c.render] for run in (first, second)}
    assert max(times[second]) < min(times[first])
    assert _counts(first) == _counts(second) == (24, 24, 24)


def test_cells_are_rendered_again_when_asked_and_not_while_they_are_under_way(short: str) -> None:
    run = _start("2.0.3", "what changed")
    with pytest.raises(CannotRenderAgain, match="24 of the cells are under way still"), transaction() as session:
        render_again(session, [c.id for c in cells_of(session, run)], who="Nora F.", now=datetime.now(UTC))
    drain()
    with transaction() as session:
        cells = [c.id for c in cells_of(session, run)]
        before = {c.id: c.render_id for c in cells_of(session, run)}
        render_again(session, cells[:3], who="Nora F.", now=datetime.now(UTC))
    drain()
    with transaction() as session:
        changed = [c.id for c in cells_of(session, run) if c.render_id != before[c.id]]
        assert changed == cells[:3]
        assert {c.state for c in cells_of(session, run)} == {"done"}


def test_what_is_rendered_again_is_not_taken_over_on_the_way(short: str) -> None:
    """Putting the run first looks anew what to render; it must not bring back the render that a person doubted."""
    run = _start("2.0.3", "what changed")
    drain()
    with transaction() as session:
        doubted = cells_of(session, run)[0]
        before = doubted.render_id
        render_again(session, [doubted.id], who="Nora F.", now=datetime.now(UTC))
        put_first(session, run, who="Nora F.", now=datetime.now(UTC))
    drain()
    with transaction() as session:
        cell = cells_of(session, run)[0]
        assert (cell.state, cell.reused) == ("done", False)
        assert cell.render_id != before


def test_runs_of_one_priority_are_rendered_by_turns_and_one_that_comes_later_joins_them(empty: str) -> None:
    def put(priority: int, first: int, count: int) -> None:
        with transaction() as session:
            render_cells(session, "q", priority, range(first, first + count))

    def order() -> list[int]:
        jobs = "SELECT (args->>'cell_id')::int FROM procrastinate_jobs WHERE status = 'todo' ORDER BY priority DESC, id"
        return [int(str(row[0])) for row in query(empty, jobs)]

    put(0, 100, 4)
    put(0, 200, 2)
    assert order() == [100, 200, 101, 201, 102, 103]
    with transaction() as session:
        session.execute(text("DELETE FROM procrastinate_jobs WHERE (args->>'cell_id')::int IN (100, 200, 101)"))
    put(0, 300, 3)  # it waits for nobody, and nobody for all of it
    assert order() == [201, 300, 102, 301, 103, 302]
    put(1, 400, 2)  # put first
    assert order() == [400, 401, 201, 300, 102, 301, 103, 302]
    with transaction() as session:
        session.execute(text("DELETE FROM procrastinate_jobs"))
    put(0, 1, 2)
    assert order() == [1, 2]
