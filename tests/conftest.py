"""A real PostgreSQL for every test that needs one: the finished demo is made once, and copied for each test."""

import fcntl
import gc
import os
import shutil
import subprocess
import tempfile
import time
import urllib.request
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass
from itertools import count
from multiprocessing.process import BaseProcess
from pathlib import Path

import psycopg
import pytest
from hypothesis import settings
from ops.cluster import Cluster as Cluster
from ops.cluster import free_port
from ops.stack import PROJECT as PROJECT
from ops.stack import SERVICES
from sqlalchemy.orm import Session

from kind_echo.bench.queue import ANALYSIS_QUEUE
from kind_echo.bench.runs import list_runs
from kind_echo.database.backup import backup, restore
from kind_echo.database.models import Run
from kind_echo.database.sessions import URL_VARIABLE, engine
from kind_echo.renderers.plugins.scanning import FILE_VARIABLE
from kind_echo.web.security.sessions import SECRET_VARIABLE
from tests.forking import command, serve, start

BIN = PROJECT / ".venv" / "bin"
UNSAFE_BUT_FAST = ("fsync = off", "synchronous_commit = off", "full_page_writes = off", "max_connections = 200")
_OWN = {
    FILE_VARIABLE: str(PROJECT / "examples" / "renderers.toml"), "OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1",
}  # fmt: skip
_ROOM = 8 << 30
"""Bytes that the databases of a whole run never come near."""
_names = count()
settings.register_profile("any machine", deadline=None)  # how long an example takes says nothing on a busy machine
settings.load_profile("any machine")
_RUN = os.environ.setdefault("KIND_ECHO_TEST_RUN", str(os.getpid()))
"""Number of the whole run; the processes that share its tests inherit it, and with it one server and one demo."""


def wait_until(
    true: Callable[[], bool], seconds: float, what: str, every: float = 0.1, moves: Callable[[], object] | None = None
) -> None:
    """Look again and again until something is true.

    Args:
        true: what is waited for.
        seconds: how long to wait; with `moves`, how long nothing may have moved. So work that goes on may take as long
            as a busy machine needs for it, and work that stands is noticed.
        what: what did not happen, for the error.
        every: seconds from one look to the next.
        moves: gives another value whenever the work went on.
    """
    deadline, last = time.monotonic() + seconds, moves and moves()
    while not true():
        if moves and (now := moves()) != last:
            deadline, last = time.monotonic() + seconds, now
        if time.monotonic() > deadline:
            raise AssertionError(f"{what} did not happen within {seconds:g} s")
        time.sleep(every)


def working(*options: str, url: str, log: Path, **environment: str) -> AbstractContextManager[BaseProcess]:
    """A worker, as `kind-echo worker` starts it."""
    return forked(command, "worker", *options, url=url, log=log, **environment)


@contextmanager
def forked(
    program: Callable[..., None], *arguments: str, url: str, log: Path, **environment: str
) -> Iterator[BaseProcess]:
    """A program of the project's in a process of its own, pointed at a database; ended with the block."""
    log.touch()  # whoever waits for a word in it may look sooner than the program writes one
    own = dict(os.environ) | _OWN | {URL_VARIABLE: url} | environment
    started = start(program, arguments, own, log, log, PROJECT)
    try:
        yield started
    finally:
        started.terminate()
        started.join(10)
        if started.is_alive():
            started.kill()
            started.join()


def kind_echo(
    *words: str | Path, folder: Path = PROJECT, seconds: float = 240, **environment: str
) -> subprocess.CompletedProcess[str]:
    """A command of the project's, run in a folder to its end."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-command-") as kept:
        out, err = Path(kept) / "out", Path(kept) / "err"
        given = tuple(map(str, words))
        started = start(command, given, dict(os.environ) | environment, out, err, folder)
        started.join(seconds)
        if started.is_alive():
            started.kill()
            raise subprocess.TimeoutExpired(given, seconds, out.read_bytes(), err.read_bytes())
        assert started.exitcode is not None
        return subprocess.CompletedProcess(given, started.exitcode, out.read_text(), err.read_text())


def point_at(url: str) -> None:
    """Let this process use that database from now on."""
    engine().dispose() if os.environ.get(URL_VARIABLE) else None
    engine.cache_clear()
    os.environ[URL_VARIABLE] = url


def query(url: str, sql: str) -> list[tuple[object, ...]]:
    """The rows of a query, on a connection of its own."""
    with psycopg.connect(url, autocommit=True) as connection:
        return connection.execute(sql).fetchall()


def unfinished(url: str) -> int:
    """Cells that are still under way, or wait for a reference that is on its way; and jobs that are still to do."""
    cells = query(url, "SELECT count(*) FROM cell WHERE state NOT IN ('done', 'failed') OR verdict = 'Waiting'")
    jobs = query(url, "SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing')")
    return int(str(cells[0][0])) + int(str(jobs[0][0]))


def wait_for_renders(url: str, run: int) -> None:
    """Wait for the renders of a run by a worker that runs meanwhile, and analyse them as they come."""
    left = f"SELECT count(*) FROM cell WHERE run_id = {run} AND state NOT IN ('done', 'failed')"
    jobs = "SELECT count(*) FROM procrastinate_jobs WHERE status IN ('todo', 'doing')"

    def finished() -> bool:
        drain([ANALYSIS_QUEUE])
        return query(url, left) == [(0,)]

    wait_until(finished, 60, "the renders", every=0.5, moves=lambda: (query(url, left), query(url, jobs)))


def forget_clock(url: str) -> None:
    """Leave no job of the clock behind, which workers make each minute: what a test counts is then its own."""
    query(url, "DELETE FROM procrastinate_jobs WHERE task_name IN ('keep_time', 'tell_of_run') RETURNING id")


def newest_run(session: Session, version: str, plan: str = "Null regression") -> Run:
    """The newest run of that plan on that version."""
    runs = (summary.run for summary in list_runs(session))
    return next(run for run in runs if (run.build.version, run.revision.plan.name) == (version, plan))


def _home() -> Path:
    """Where the servers of the tests keep their files: in memory where there is room, for they copy thousands."""
    memory = Path("/dev/shm")
    roomy = memory.is_dir() and os.access(memory, os.W_OK) and shutil.disk_usage(memory).total >= _ROOM
    return memory if roomy else Path("/tmp")  # PostgreSQL's own account must reach it


_CLUSTER = Cluster(_home() / f"kind-echo-test-{_RUN}", UNSAFE_BUT_FAST, "md5")


@contextmanager
def one_at_a_time(what: str) -> Iterator[Path]:
    """One process of the run after the other; a file beside the cluster that tells what has been made."""
    with Path(f"{_CLUSTER.folder}-{what}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        yield Path(f"{_CLUSTER.folder}-{what}")


def _sweep() -> None:
    """Remove what runs left behind that were killed: it may lie in memory."""
    for folder in _CLUSTER.folder.parent.glob("kind-echo-test-*"):
        run = folder.name.split("-")[3].split(".")[0]
        if run.isdigit() and not Path(f"/proc/{run}").exists():
            if (folder / "created").exists() and os.access(folder, os.W_OK):
                Cluster(folder).stop("immediate")
            subprocess.run(["rm", "-rf", str(folder)], check=False)  # another account's is not ours to remove


@pytest.fixture(scope="session")
def cluster() -> Cluster:
    with one_at_a_time("cluster"):
        _sweep()
        _CLUSTER.create()
        if not _CLUSTER.running():
            _CLUSTER.start(free_port())
        for service in SERVICES:
            _CLUSTER.role_url(f"kind_echo_{service}")
    return _CLUSTER


@pytest.fixture(scope="session", autouse=True)
def secret_file(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Servers and this process sign sessions with one key, so that a test can sign in without asking a server."""
    path = tmp_path_factory.mktemp("secret") / "key"
    path.touch(mode=0o600)
    path.write_text("k" * 40)
    os.environ[SECRET_VARIABLE] = str(path)


def pytest_collection_finish() -> None:
    """What has been loaded stays: the garbage collector need not walk over it again and again."""
    gc.collect()
    gc.freeze()


def pytest_sessionfinish(session: pytest.Session) -> None:
    """The process that began the run ends what all of its processes shared."""
    if str(os.getpid()) == _RUN and not hasattr(session.config, "workerinput"):
        _CLUSTER.stop("immediate")
        subprocess.run(["rm", "-rf", str(_CLUSTER.folder)], check=True)
        for left in _CLUSTER.folder.parent.glob(f"{_CLUSTER.folder.name}-*"):
            subprocess.run(["rm", "-rf", str(left)], check=True)


@pytest.fixture
def own_cluster() -> Iterator[Cluster]:
    """A server that this test alone uses, and may stop; an empty database is in it."""
    # With what makes commits safe: this one is stopped as a power cut would stop it.
    own = Cluster(Path(f"{_CLUSTER.folder}-own-{os.getpid()}"))
    own.create()
    own.start(free_port())
    yield own
    engine().dispose()
    own.stop("immediate")
    subprocess.run(["rm", "-rf", str(own.folder)], check=True)


@pytest.fixture
def own_demo(own_cluster: Cluster, seen: str, tmp_path: Path) -> str:
    """Address of the finished demo on a server that this test alone uses, brought there by a backup."""
    backup(tmp_path / "demo.dump")
    point_at(own_cluster.url)
    restore(tmp_path / "demo.dump")
    return own_cluster.url


def fresh_database(cluster: Cluster, template: str = "template1") -> str:
    """A new database; its address."""
    name = f"test_{os.getpid()}_{next(_names)}"
    # Files are copied, not logged page by page: the finished demo has some 200 MB.
    _on_server(cluster, f"CREATE DATABASE {name} TEMPLATE {template} STRATEGY FILE_COPY")
    return f"{_server(cluster)}/{name}"


def drop_database(cluster: Cluster, url: str) -> None:
    """Remove a database, whoever is still connected to it: a copy for every test would fill a disk."""
    _on_server(cluster, f"DROP DATABASE IF EXISTS {url.rsplit('/', 1)[1]} WITH (FORCE)")


def _on_server(cluster: Cluster, command: str) -> None:
    with psycopg.connect(f"{_server(cluster)}/postgres", autocommit=True) as connection:
        connection.execute(command)


def _server(cluster: Cluster) -> str:
    return cluster.url.rsplit("/", 1)[0]


@pytest.fixture(scope="session")
def finished_demo(cluster: Cluster, tmp_path_factory: pytest.TempPathFactory) -> str:
    """Name of a database in which all runs of the demo have been rendered and judged by real workers."""
    with one_at_a_time("demo") as made:
        if not made.exists():
            made.write_text(_render_demo(cluster, tmp_path_factory.mktemp("demo") / "worker.log"))
        return made.read_text()


def _render_demo(cluster: Cluster, log: Path) -> str:
    url = fresh_database(cluster)
    grant = ("grant", "--web", "kind_echo_web", "--worker", "kind_echo_worker")
    for words in (("migrate", "--no-account"), grant, ("load-demo",)):
        kind_echo(*words, **_OWN, **{URL_VARIABLE: url}).check_returncode()  # type: ignore[arg-type]
    worker = as_service(url, "worker")
    with working(url=worker, log=log), working(url=worker, log=log):
        wait_until(lambda: unfinished(url) == 0, 1200, "the demo", every=1.0)
    forget_clock(url)
    return url.rsplit("/", 1)[1]


def as_service(url: str, service: str) -> str:
    """The address of a database for one of the services, with no more rights than it has in use."""
    return f"{_CLUSTER.role_url(f'kind_echo_{service}').rsplit('/', 1)[0]}/{url.rsplit('/', 1)[1]}"


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


@pytest.fixture(scope="session")
def migrated(cluster: Cluster) -> str:
    """Name of a migrated database with nothing in it."""
    from kind_echo.database.migrate import migrate

    with one_at_a_time("migrated") as made:
        if not made.exists():
            url = fresh_database(cluster)
            point_at(url)
            migrate()
            engine().dispose()
            made.write_text(url.rsplit("/", 1)[1])
        return made.read_text()


@pytest.fixture
def empty(cluster: Cluster, migrated: str) -> Iterator[str]:
    """Address of a migrated database with nothing in it; this process is pointed at it."""
    url = fresh_database(cluster, migrated)
    point_at(url)
    yield url
    engine().dispose()
    drop_database(cluster, url)


def drain(queues: list[str] | None = None) -> None:
    """Do all jobs that are on the queues now, in this process; on all of them unless some are named."""
    import asyncio

    import procrastinate

    from kind_echo.bench.jobs import handlers as jobs

    connector = procrastinate.PsycopgConnector(conninfo=os.environ[URL_VARIABLE])

    async def work() -> None:
        copy = jobs.app.with_connector(connector)
        # No clock: what there is to do is on the queues.
        copy.periodic_registry = procrastinate.periodic.PeriodicRegistry()  # type: ignore[no-untyped-call]
        async with copy.open_async() as app:
            await app.run_worker_async(
                queues=queues, wait=False, install_signal_handlers=False, delete_jobs="successful"
            )

    # In a thread of its own: Playwright leaves an event loop running in the tests' thread.
    with ThreadPoolExecutor(1) as pool:
        pool.submit(asyncio.run, work()).result()


@dataclass(frozen=True)
class Server:
    """A running web server with one worker, each with its own rights; the database as its owner sees it."""

    address: str
    database: str


@contextmanager
def serving(url: str, folder: Path, *, worker: bool = True, **environment: str) -> Iterator[Server]:
    """The web server on that database, and a worker unless there is to be none."""
    port = free_port()
    address = f"http://127.0.0.1:{port}"
    with (
        forked(serve, f"127.0.0.1:{port}", "16", url=as_service(url, "web"), log=folder / "web.log", **environment),
        working(url=as_service(url, "worker"), log=folder / "worker.log", **environment) if worker else nullcontext(),
    ):
        wait_until(lambda: _answers(address), 120, "an answer of the web server")
        yield Server(address, url)


def _answers(address: str) -> bool:
    try:
        with urllib.request.urlopen(f"{address}/readyz", timeout=2) as response:
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
