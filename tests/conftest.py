"""A real PostgreSQL for every test that needs one: the finished demo is made once, and copied for each test."""

import os
import subprocess
import time
import urllib.request
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from itertools import count
from pathlib import Path

import psycopg
import pytest
from ops.cluster import Cluster, free_port
from ops.stack import PROJECT
from sqlalchemy.orm import Session

from kind_echo.bench.runs import all_runs
from kind_echo.renderers.machine import FILE_VARIABLE
from kind_echo.store.database import URL_VARIABLE, engine
from kind_echo.store.models import Run

BIN = PROJECT / ".venv" / "bin"
UNSAFE_BUT_FAST = ("fsync = off", "synchronous_commit = off", "full_page_writes = off", "max_connections = 200")
_OWN = {
    FILE_VARIABLE: str(PROJECT / "examples" / "renderers.toml"), "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1",
}  # fmt: skip
_names = count()


def wait_until(true: Callable[[], bool], seconds: float, what: str, every: float = 0.1) -> None:
    """Look again and again until something is true."""
    deadline = time.monotonic() + seconds
    while not true():
        if time.monotonic() > deadline:
            raise AssertionError(f"{what} did not happen within {seconds:g} s")
        time.sleep(every)


@contextmanager
def process(*command: str, url: str, log: Path, **environment: str) -> Iterator[subprocess.Popen[bytes]]:
    """A program of the project's, pointed at a database; ended with the block."""
    with log.open("ab") as output:
        started = subprocess.Popen(
            [BIN / command[0], *command[1:]],
            env=os.environ | _OWN | {URL_VARIABLE: url} | environment,
            stdout=output,
            stderr=output,
            cwd=PROJECT,
        )
        try:
            yield started
        finally:
            started.terminate()
            try:
                started.wait(10)
            except subprocess.TimeoutExpired:
                started.kill()
                started.wait()


def point_at(url: str) -> None:
    """Let this process use that database from now on."""
    engine().dispose() if os.environ.get(URL_VARIABLE) else None
    engine.cache_clear()
    os.environ[URL_VARIABLE] = url


def query(url: str, sql: str) -> list[tuple[object, ...]]:
    """The rows of a query, on a connection of its own."""
    with psycopg.connect(url, autocommit=True) as connection:
        return connection.execute(sql).fetchall()  # type: ignore[arg-type]


def unfinished(url: str) -> int:
    """Cells that are still under way, or wait for a reference that is on its way; and jobs that are still to do."""
    cells = query(url, "SELECT count(*) FROM cell WHERE state NOT IN ('done', 'failed') OR verdict = 'Waiting'")
    jobs = query(url, "SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing')")
    return int(str(cells[0][0])) + int(str(jobs[0][0]))


def newest_run(session: Session, version: str, plan: str = "Null regression") -> Run:
    """The newest run of that plan on that version."""
    runs = (summary.run for summary in all_runs(session))
    return next(run for run in runs if (run.build.version, run.revision.plan.name) == (version, plan))


@pytest.fixture(scope="session")
def cluster(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Cluster]:
    # PostgreSQL's own account must reach the folder; pytest's are closed to it.
    folder = Path(f"/tmp/kind-echo-test-{os.getpid()}") if os.geteuid() == 0 else tmp_path_factory.mktemp("postgresql")
    made = Cluster(folder, UNSAFE_BUT_FAST)
    made.create()
    made.start(free_port())
    yield made
    made.stop("immediate")
    subprocess.run(["rm", "-rf", str(folder)], check=True)


def fresh_database(cluster: Cluster, template: str = "template1") -> str:
    """A new database; its address."""
    name = f"test_{next(_names)}"
    # Files are copied, not logged page by page: the finished demo has some 200 MB.
    _on_server(cluster, f"CREATE DATABASE {name} TEMPLATE {template} STRATEGY FILE_COPY")
    return f"{_server(cluster)}/{name}"


def drop_database(cluster: Cluster, url: str) -> None:
    """Remove a database, whoever is still connected to it: a copy for every test would fill a disk."""
    _on_server(cluster, f"DROP DATABASE IF EXISTS {url.rsplit('/', 1)[1]} WITH (FORCE)")


def _on_server(cluster: Cluster, command: str) -> None:
    with psycopg.connect(f"{_server(cluster)}/postgres", autocommit=True) as connection:
        connection.execute(command)  # type: ignore[arg-type]


def _server(cluster: Cluster) -> str:
    return cluster.url.rsplit("/", 1)[0]


@pytest.fixture(scope="session")
def finished_demo(cluster: Cluster, tmp_path_factory: pytest.TempPathFactory) -> str:
    """Name of a database in which all runs of the demo have been rendered and judged by real workers."""
    url = fresh_database(cluster)
    log = tmp_path_factory.mktemp("demo") / "worker.log"
    for command in ("migrate", "load-demo"):
        subprocess.run([BIN / "kind-echo", command], env=os.environ | _OWN | {URL_VARIABLE: url}, check=True)
    with process("kind-echo", "worker", url=url, log=log), process("kind-echo", "worker", url=url, log=log):
        wait_until(lambda: unfinished(url) == 0, 1200, "the demo", every=1.0)
    return url.rsplit("/", 1)[1]


@pytest.fixture
def demo(cluster: Cluster, finished_demo: str) -> Iterator[str]:
    """Address of a database of the test's own, with the finished demo in it; this process is pointed at it."""
    url = fresh_database(cluster, finished_demo)
    point_at(url)
    yield url
    engine().dispose()
    drop_database(cluster, url)


@pytest.fixture(scope="session")
def shared_copy(cluster: Cluster, finished_demo: str) -> str:
    """Address of one copy of the finished demo for all tests that only look."""
    return fresh_database(cluster, finished_demo)


@pytest.fixture
def seen(shared_copy: str) -> Iterator[str]:
    """The finished demo for a test that only looks, or takes back what it writes; this process is pointed at it."""
    point_at(shared_copy)
    yield shared_copy
    engine().dispose()


@pytest.fixture
def empty(cluster: Cluster) -> Iterator[str]:
    """Address of a migrated database with nothing in it; this process is pointed at it."""
    from kind_echo.store.migrate import migrate

    url = fresh_database(cluster)
    point_at(url)
    migrate()
    yield url
    engine().dispose()
    drop_database(cluster, url)


def drain() -> None:
    """Do all jobs that are on the queue now, in this process."""
    import asyncio

    import procrastinate

    from kind_echo.bench import jobs

    connector = procrastinate.PsycopgConnector(conninfo=os.environ[URL_VARIABLE])

    async def work() -> None:
        async with jobs.app.with_connector(connector).open_async() as app:
            await app.run_worker_async(wait=False, install_signal_handlers=False, delete_jobs="successful")

    # In a thread of its own: Playwright leaves an event loop running in the tests' thread.
    with ThreadPoolExecutor(1) as pool:
        pool.submit(asyncio.run, work()).result()


@dataclass(frozen=True)
class Server:
    """A running web server with one worker."""

    address: str
    database: str


@contextmanager
def serving(url: str, folder: Path) -> Iterator[Server]:
    """The web server and a worker on that database."""
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    web = ("gunicorn", "-k", "gthread", "--threads", "16", "-b", f"127.0.0.1:{port}", "--no-control-socket",
           "--graceful-timeout", "1",
           "kind_echo.web.wsgi:application")  # fmt: skip
    with (
        process(*web, url=url, log=folder / "web.log"),
        process("kind-echo", "worker", url=url, log=folder / "worker.log"),
    ):
        wait_until(lambda: _answers(address), 120, "an answer of the web server")
        yield Server(address, url)


def _answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(f"{address}/api/health", timeout=2) as response:
            return bool(response.status == 200)
    except OSError:
        return False


@pytest.fixture(scope="session")
def shared_server(shared_copy: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Server]:
    """One for all tests that only look."""
    with serving(shared_copy, tmp_path_factory.mktemp("shared")) as running:
        yield running


@pytest.fixture
def server(demo: str, tmp_path: Path) -> Iterator[Server]:
    with serving(demo, tmp_path) as running:
        yield running
