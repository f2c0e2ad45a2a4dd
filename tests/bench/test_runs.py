"""Runs survive the death of a worker and an absence of the database: no cell is lost, none is counted twice."""

import os
import signal
import subprocess
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest
from ops.cluster import Cluster
from sqlalchemy import func, select

from kind_echo.bench.plans import (
    BuildNotFound,
    CaseDraft,
    PlanNotFound,
    find_build,
    find_plan,
    latest_revision,
    null_test_limits,
    revise_plan,
)
from kind_echo.bench.runs import cells_of, start_run
from kind_echo.store.database import URL_VARIABLE, transaction
from kind_echo.store.models import Cell, Condition, Plan, Render, Run
from tests.conftest import BIN, process, query, unfinished, wait_until


@pytest.fixture
def short(demo: str) -> str:
    """The demo with a plan of two of its cases, 24 cells, beside the demo's own; the references serve both."""
    with transaction() as session:
        whole = latest_revision(session, find_plan(session, "Null regression").id)
        plan = Plan(effect_id=whole.plan.effect_id, name="Short")
        session.add(plan)
        session.flush()
        limits = null_test_limits()
        drafts = [CaseDraft(case.signal, case.setting, limits) for case in (whole.cases[2], whole.cases[4])]
        conditions = [session.get_one(Condition, number) for number in whole.condition_ids]
        revise_plan(session, plan, drafts, conditions, datetime.now(UTC))
    return demo


def _start(version: str) -> int:
    with transaction() as session:
        plan = find_plan(session, "Short")
        build = find_build(session, plan, version)
        return start_run(session, plan.id, build.id, who="Nora F.", now=datetime.now(UTC)).id


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
    with process("kind-echo", "worker", url=short, log=log) as first:
        wait_until(lambda: bool(query(short, "SELECT 1 FROM cell WHERE state = 'rendering'")), 30, "a render")
        first.send_signal(signal.SIGKILL)
        first.wait()
    assert unfinished(short) > 0
    with process("kind-echo", "worker", url=short, log=log), process("kind-echo", "worker", url=short, log=log):
        wait_until(lambda: unfinished(short) == 0, 180, "the rest of the run")
    assert _counts(run) == (24, 24, 24)
    with transaction() as session:
        used = set(session.scalars(select(Cell.render_id)))
        assert session.scalar(select(func.count()).select_from(Render)) == len(used)


def test_workers_and_a_run_outlive_ten_seconds_without_the_database(
    short: str, cluster: Cluster, tmp_path: Path
) -> None:
    run = _start("2.0.3")
    port = int((cluster.folder / "port").read_text())
    with process("kind-echo", "worker", url=short, log=tmp_path / "worker.log") as worker:
        wait_until(lambda: _counts(run)[1] >= 3, 60, "the first cells")
        cluster.stop("immediate")
        try:
            time.sleep(10)
        finally:
            cluster.start(port)
        wait_until(lambda: unfinished(short) == 0, 180, "the rest of the run")
        assert worker.poll() is None
    assert _counts(run) == (24, 24, 24)


def test_a_run_from_the_command_line_waits_for_its_verdicts(short: str, tmp_path: Path) -> None:
    environment = os.environ | {URL_VARIABLE: short}
    with process("kind-echo", "worker", url=short, log=tmp_path / "worker.log"):
        done = subprocess.run(
            [BIN / "kind-echo", "run", "Short", "2.1.0-rc2", "--who", "Nora F."],
            env=environment, capture_output=True, text=True, timeout=240,
        )  # fmt: skip
    assert done.returncode == 1, done.stderr
    assert "7 Fail, 17 Pass" in done.stdout
    refused = subprocess.run(
        [BIN / "kind-echo", "run", "Null regression", "9.9"], env=environment, capture_output=True, text=True
    )
    assert (refused.returncode, refused.stdout) == (2, "")
    assert refused.stderr.strip() == "kind-echo: There is no build 9.9 of the effect that this plan tests."


def test_a_plan_or_build_that_is_not_there_is_refused(demo: str) -> None:
    with pytest.raises(PlanNotFound), transaction() as session:
        find_plan(session, "Nothing")
    with transaction() as session:
        plan = find_plan(session, "Null regression")
        before = session.scalar(select(func.count()).select_from(Run))
    with pytest.raises(BuildNotFound), transaction() as session:
        start_run(session, plan.id, 999, who="Nora F.", now=datetime.now(UTC))
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(Run)) == before
