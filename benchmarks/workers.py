"""Throughput of 1, 2 and 4 workers on renders that take their time elsewhere; and whether 50 are fair to two runs.

`python -m benchmarks.workers`: each render sleeps, as one does that waits for a host on another machine, so that two
cores do for many workers. Printed are renders a second beside those of one worker, and how busy the database was.
"""

import os
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import MappingProxyType

import psycopg
from ops.stack import PROJECT

from benchmarks.runs import own_database

SECONDS = 2.0
"""That a render sleeps."""

_WORKERS = (1, 2, 4)
_CELLS_A_WORKER = 24
_MANY = 50

_SLOW = f'''"""A simulated effect that takes its time."""
import time
from kind_echo.renderers import stand_in

_render = stand_in.StandInRenderer.render


def _slowly(self, request):
    time.sleep({SECONDS})
    return _render(self, request)


stand_in.StandInRenderer.render = _slowly
'''


def report() -> list[str]:
    """The figures, a line each."""
    lines, alone = [], 0.0
    with own_database(), tempfile.TemporaryDirectory(prefix="kind-echo-workers-") as folder:
        (Path(folder) / "slow_effect.py").write_text(_SLOW)
        for count in _WORKERS:
            with _slow_workers(count, folder), Sampled() as sampled:
                rate = _rate([_start(_CELLS_A_WORKER * count)])
            alone = alone or rate
            lines.append(
                f"{count} workers, renders of {SECONDS:g} s: {rate:.2f} a second, {rate / alone / count:.2f} × their "
                f"number; {sampled.busy:.2f} connections of the database at work on average"
            )
        with _slow_workers(_MANY, folder), Sampled() as sampled:
            runs = [_start(200), _start(200)]
            halves = _at_half(runs)
            rate = _rate(runs)
        lines.append(
            f"{_MANY} workers, two runs of 200 begun together: {rate:.1f} renders a second; at half the first had "
            f"{halves[0]} and the second {halves[1]} renders; {sampled.busy:.1f} connections at work on average"
        )
    return lines


def _start(cells: int) -> int:
    from kind_echo.bench.plans import PlanDocument, find_build, plan_numbered, save_plan
    from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep
    from kind_echo.bench.runs import start_run
    from kind_echo.database.sessions import transaction

    now = datetime.now(UTC)
    values = [round(0.1 * step, 1) for step in range(cells)]
    document = PlanDocument(
        plan=f"Slow {time.monotonic_ns()}", effect="Skerry",
        signals={"Short tone": {"kind": "tone", "level": -6.0, "seconds": 0.1}},
        cases=[PlanCase(signal="Short tone", setting="Hard, 8×", sweep=Sweep(parameter="drive", values=[*values]))],
        conditions=[PlanCondition(host="Almanac", version="7", modes=["offline"], rates=[48_000], blocks=[512])],
    )  # fmt: skip
    with transaction() as session:
        revision = save_plan(session, document, who="Benchmark", now=now)
        build = find_build(session, plan_numbered(session, revision.plan_id), "2.0.3")
        return start_run(session, revision.plan_id, build.id, who="Benchmark", now=now, render="everything").id


def query(sql: str, runs: Sequence[int]) -> list[tuple[object, ...]]:
    """The rows of a question about runs."""
    with psycopg.connect(os.environ["KIND_ECHO_DATABASE_URL"], autocommit=True) as connection:
        return connection.execute(sql, [list(runs)]).fetchall()


def _rate(runs: Sequence[int]) -> float:
    """Renders a second from the first to the last of some runs, once all are judged."""
    wait_until_judged(runs)
    span = (
        "SELECT count(*) - 1, extract(epoch FROM max(rendered_at) - min(rendered_at))::float8 FROM render "
        "JOIN cell ON cell.render_id = render.id WHERE run_id = ANY(%s)"
    )
    count, seconds = query(span, runs)[0]
    return float(str(count)) / float(str(seconds))


def wait_until_judged(runs: Sequence[int]) -> None:
    """Wait until nothing of some runs is under way."""
    left = "SELECT count(*) FROM cell WHERE run_id = ANY(%s) AND state NOT IN ('done', 'failed')"
    while query(left, runs)[0][0]:
        time.sleep(0.2)


def _at_half(runs: Sequence[int]) -> list[int]:
    """How many renders each run has when half of all are there."""
    counts = "SELECT run_id, count(*) FILTER (WHERE render_id IS NOT NULL) FROM cell WHERE run_id = ANY(%s) GROUP BY 1"
    while True:
        found = {int(str(run)): int(str(count)) for run, count in query(counts, runs)}
        if sum(found.values()) >= 200:
            return [found[run] for run in runs]
        time.sleep(0.1)


def _slow_workers(count: int, folder: str) -> AbstractContextManager[None]:
    return some_workers(count, {"PYTHONPATH": folder, "KIND_ECHO_EXTENSIONS": "slow_effect"})


@contextmanager
def some_workers(count: int, environment: Mapping[str, str] = MappingProxyType({})) -> Iterator[None]:
    """Workers of that many machines; each is at work when the block begins."""
    environment = os.environ | {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"} | dict(environment)
    command = [PROJECT / ".venv/bin/kind-echo", "worker"]
    started = [
        subprocess.Popen([*command, "--machine", f"machine {n}"], stderr=subprocess.DEVNULL, env=environment)  # type: ignore[list-item]
        for n in range(count)
    ]
    try:
        deadline = time.monotonic() + 300
        at_work = "SELECT count(*) FROM worker WHERE stopped_at IS NULL AND seen_at > now() - interval '10 s'"
        while int(str(query(f"{at_work} AND %s::int[] IS NOT NULL", [0])[0][0])) < count:
            if time.monotonic() > deadline:
                raise SystemExit("The workers do not come up.")
            time.sleep(0.5)
        yield
    finally:
        for one in started:
            one.terminate()
        for one in started:
            one.wait()


class Sampled:
    """Counts while its block runs, five times a second, how many connections the database is at work for."""

    def __enter__(self) -> "Sampled":
        self._samples: list[int] = []
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._look)
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._done.set()
        self._thread.join()

    @property
    def busy(self) -> float:
        """Connections on average."""
        return sum(self._samples) / max(1, len(self._samples))

    def _look(self) -> None:
        active = "SELECT count(*) FROM pg_stat_activity WHERE state = 'active' AND pid <> pg_backend_pid()"
        with psycopg.connect(os.environ["KIND_ECHO_DATABASE_URL"], autocommit=True) as connection:
            while not self._done.wait(0.2):
                row = connection.execute(active).fetchone()
                self._samples.append(int(row[0]) if row else 0)


if __name__ == "__main__":
    for line in report():
        print(line, file=sys.stdout, flush=True)
