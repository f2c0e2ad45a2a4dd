"""A run by two workers beside the bare rendering and comparing of the same cells by two processes; and a second run."""

import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from multiprocessing import Pool
from pathlib import Path
from typing import Any

import psycopg
from ops.cluster import Cluster, free_port
from ops.stack import PROJECT

CELLS = 1000
_BARE = 100  # cells that the bare way is timed on
_RATES = [44_100, 48_000]
_BLOCKS = [32, 64, 128, 256, 512]


def report(cells: int = CELLS) -> list[str]:
    """The figures, a line each; on a server of its own."""
    with own_database(), workers():
        first = _plan(cells)
        _run(first, "2.0.3")
        approve_all()
        run, spent = _run(first, "2.1.0-rc1")
        again, at_once = _run(first, "2.1.0-rc1")
        bare = _bare(run) / _BARE * cells
        if _verdicts(run) != _verdicts(again):
            raise SystemExit("The second run has other verdicts than the first.")
    return [
        f"run of {cells} cells by two workers: {spent / bare:.2f} × bare rendering and comparing ({spent:.0f} s)",
        f"the same run again, nothing changed: {spent / at_once:.0f} times faster ({at_once:.2f} s)",
    ]


def _plan(cells: int) -> int:
    from kind_echo.bench.plans import PlanDocument, save_plan
    from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep
    from kind_echo.database.sessions import transaction

    columns = 2 * len(_RATES) * len(_BLOCKS)
    drives = [round(step * 0.2, 1) for step in range(cells // columns // 2)]
    document = PlanDocument(
        plan="Many", effect="Skerry",
        signals={"Short tone": {"kind": "tone", "level": -6.0, "seconds": 1.0}},
        cases=[
            PlanCase(signal=signal, setting="Hard, 8×", sweep=Sweep(parameter="drive", values=[*drives]))
            for signal in ("Short tone", "Bell buoy strikes")
        ],
        conditions=[PlanCondition(host="Almanac", version="7", modes=["real time", "offline"], rates=_RATES,
                                  blocks=_BLOCKS)],
    )  # fmt: skip
    with transaction() as session:
        return save_plan(session, document, who="Benchmark", now=datetime.now(UTC)).plan_id


def _run(plan: int, version: str) -> tuple[int, float]:
    from kind_echo.bench.plans import find_build, plan_numbered
    from kind_echo.bench.runs import find_run, start_run, summary_of
    from kind_echo.database.sessions import transaction

    begin = time.perf_counter()
    with transaction() as session:
        build = find_build(session, plan_numbered(session, plan), version)
        run = start_run(session, plan, build.id, who="Benchmark", now=datetime.now(UTC)).id
    while True:
        with transaction() as session:
            if summary_of(session, find_run(session, run)).is_finished:
                return run, time.perf_counter() - begin
        time.sleep(0.05)


def approve_all() -> None:
    """Make references of all renders that wait for one."""
    from sqlalchemy import select

    from kind_echo.bench.decisions import approve
    from kind_echo.database.models import Cell
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        waiting = list(session.scalars(select(Cell.id).where(Cell.verdict == "Waiting", Cell.state == "done")))
        approve(session, waiting, who="Benchmark", why="", now=datetime.now(UTC))


def _verdicts(run: int) -> list[tuple[str, str]]:
    from kind_echo.bench.runs import cells_of
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        return [(cell.verdict, cell.why) for cell in cells_of(session, run)]


def _bare(run: int) -> float:
    """Seconds of two processes that render, measure and compare cells spread over the run, and keep nothing."""
    from kind_echo.bench.rendering import request_for
    from kind_echo.bench.runs import cells_of
    from kind_echo.database.blobs import BlobSource
    from kind_echo.database.sessions import transaction

    with transaction() as session:
        cells = cells_of(session, run)
        work = []
        for cell in cells[:: max(1, len(cells) // _BARE)][:_BARE]:
            assert cell.reference is not None
            source = BlobSource(session, cell.reference.render.content)
            work.append((cell.case.signal.stimulus, request_for(session, cell), source.read(0, source.frames)))
    with Pool(2) as pool:
        pool.map(_one, work[:4])  # loads what must be loaded
        begin = time.perf_counter()
        pool.map(_one, work, chunksize=1)
        return time.perf_counter() - begin


def _one(work: Any) -> None:
    from kind_echo.bench.comparisons import options_for
    from kind_echo.core.audio.source import ArraySource
    from kind_echo.core.comparison.compare import compare
    from kind_echo.core.levels.analysis import measure_render
    from kind_echo.core.systems.by_signal import measure_by_signal
    from kind_echo.renderers.stand_in import StandInRenderer

    signal, request, reference = work
    result = StandInRenderer().render(request)
    stimulus, render = ArraySource(request.signal, request.rate), ArraySource(result.samples, request.rate)
    measure_render(stimulus, render)
    measure_by_signal(signal, stimulus, render, claimed=0.0)
    compare(ArraySource(reference, request.rate), render, options_for(signal, request.rate))


@contextmanager
def own_database() -> Iterator[None]:
    """A PostgreSQL of its own, with the demo's effects and signals in it and none of its jobs."""
    from kind_echo.bench.demo import load_demo
    from kind_echo.database.migrate import migrate
    from kind_echo.database.sessions import URL_VARIABLE, transaction
    from kind_echo.renderers.takes import installed

    folder = Path(f"/tmp/kind-echo-benchmark-{os.getpid()}")  # the server's own account must reach it
    cluster = Cluster(folder, ("max_connections = 400",))  # for as many workers as a benchmark likes
    cluster.create()
    cluster.start(free_port())
    try:
        os.environ[URL_VARIABLE] = cluster.url
        migrate()
        with transaction() as session:
            load_demo(session, list(installed().values()), datetime.now(UTC))
        with psycopg.connect(cluster.url, autocommit=True) as own:
            own.execute("TRUNCATE procrastinate_jobs CASCADE")  # the demo's runs are not what is measured
        yield
    finally:
        cluster.stop("immediate")
        shutil.rmtree(folder, ignore_errors=True)


@contextmanager
def web_server() -> Iterator[str]:
    """The web server on the database that this process uses; its address."""
    address = f"127.0.0.1:{free_port()}"
    command = [PROJECT / ".venv/bin/kind-echo", "serve", "--bind", address]
    started = subprocess.Popen(command, stderr=subprocess.DEVNULL, env=os.environ)  # type: ignore[arg-type]
    try:
        time.sleep(5)
        yield f"http://{address}"
    finally:
        started.terminate()
        started.wait()


@contextmanager
def workers() -> Iterator[None]:
    """Two workers, until the block ends."""
    started = [
        subprocess.Popen([PROJECT / ".venv/bin/kind-echo", "worker"], stderr=subprocess.DEVNULL, env=os.environ)
        for _ in range(2)
    ]
    try:
        time.sleep(6)
        yield
    finally:
        for worker in started:
            worker.terminate()
        for worker in started:
            worker.wait()
