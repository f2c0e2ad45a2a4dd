"""An installation that is disturbed while it renders a run: processes are killed, its disk fills and empties."""

import os
import random
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path

import psycopg
from ops.cluster import Cluster
from ops.stack import Stack, orphans

_KINDS = ("worker", "worker", "web", "postmaster", "backend")
"""Workers are killed twice as often: they hold the work."""

DISK_BYTES = 1 << 30
_PATIENCE = 300.0  # seconds without a cell that ends, after which nothing is expected any more


@dataclass(frozen=True)
class _Installation(Stack):
    """An installation in a folder of its own, with its database there."""

    home: Path = field(default=Path())

    @property
    def cluster(self) -> Cluster:
        """Its own PostgreSQL."""
        return Cluster(self.home / "database")


@dataclass(frozen=True)
class Outcome:
    """What a run under kills came to.

    Attributes:
        kills: how many processes of each kind were killed.
        seconds: until the last cell, undisturbed and under kills.
        wrong: what is not as it must be; nothing when all is well.
        alone: seconds after the death of a supervisor until none of its children was left, at the most.
    """

    kills: dict[str, int]
    seconds: tuple[float, float]
    wrong: list[str]
    alone: float = 0.0


def disturb(folder: Path, *, cells: int, kills: int, seed: int, disk: bool, supervisors: int = 0) -> Outcome:
    """Let an installation in `folder` render a plan of so many cells undisturbed, and again under kills."""
    stack = _Installation(folder / "var", home=folder)
    stack.start(demo=False)
    url = stack.cluster.url
    try:
        plan, build = _plan(url, cells)
        calm = _start(url, plan, build)
        calm_seconds = _wait(url, calm)
        rough = _start(url, plan, build)
        begun, counted = time.monotonic(), dict.fromkeys(dict.fromkeys(_KINDS), 0)
        dice = random.Random(seed)
        filled = [kills // 3, 2 * kills // 3] if disk else []
        alone = 0.0
        without = {round((k + 0.5) * kills / supervisors) for k in range(supervisors)} if supervisors else set()
        for number in range(kills):
            if number in without:
                alone = max(alone, _kill_supervisor(stack))
                stack.start(demo=False)
                url = stack.cluster.url
            time.sleep(dice.uniform(0.2, 2.0 * calm_seconds / kills + 1.0))
            kind = dice.choice(_KINDS)
            counted[kind] += _kill(stack, kind, dice)
            if number in filled:
                _fill(folder)
        rough_seconds = _wait(url, rough) + time.monotonic() - begun
        wrong = _wrong(url, calm, rough) + _jobs_left(url)
        counted |= {"supervisor": supervisors} if supervisors else {}
    finally:
        stack.stop()
    left = orphans(stack.var)
    return Outcome(counted, (calm_seconds, rough_seconds), wrong + [f"left over: {left}"] * bool(left), alone)


def _kill_supervisor(stack: Stack) -> float:
    """Kill the supervisor, and wait until all that it started is gone; how long that took, in seconds."""
    os.kill(int((stack.var / "supervisord.pid").read_text()), signal.SIGKILL)
    begun = time.monotonic()
    while orphans(stack.var) and time.monotonic() - begun < _PATIENCE:
        time.sleep(0.05)
    return time.monotonic() - begun


def _plan(url: str, cells: int) -> tuple[int, int]:
    """A plan of the demo's effect with so many short cells; its number and that of a build."""
    with _database(url):
        from kind_echo.bench.machines import add_offered
        from kind_echo.bench.plans import PlanDocument, find_build, plan_numbered, save_plan
        from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep
        from kind_echo.database.sessions import transaction

        rates, blocks, modes = [44_100, 48_000], [64, 128], ["real time", "offline"]
        values = [round(0.1 * step, 1) for step in range(-(-cells // 8))]
        document = PlanDocument(
            plan="Chaos", effect="Skerry",
            signals={"Short tone": {"kind": "tone", "level": -6.0, "seconds": 0.5}},
            settings={"Hard": {"shape": "hard", "ceiling": -6.0, "oversampling": 8}},
            cases=[PlanCase(signal="Short tone", setting="Hard", sweep=Sweep(parameter="drive", values=[*values]))],
            conditions=[PlanCondition(host="Almanac", version="7", modes=modes, rates=rates, blocks=blocks)],  # type: ignore[arg-type]
        )  # fmt: skip
        deadline = time.monotonic() + 60
        while True:
            try:
                with transaction() as session:
                    add_offered(session, "Skerry", datetime.now(UTC))
                    revision = save_plan(session, document, who="Benchmark", now=datetime.now(UTC))
                    build = find_build(session, plan_numbered(session, revision.plan_id), "2.0.3")
                    return revision.plan_id, build.id
            except Exception:
                if time.monotonic() > deadline:
                    raise
                time.sleep(0.5)  # the workers say what they have a moment after they began


def _start(url: str, plan: int, build: int) -> int:
    with _database(url):
        from kind_echo.bench.runs import start_run
        from kind_echo.database.sessions import transaction

        with transaction() as session:
            return start_run(
                session, plan, build, who="Benchmark", now=datetime.now(UTC), render="everything"
            ).id  # fmt: skip


@contextmanager
def _database(url: str) -> Iterator[None]:
    """Point this process at a database; its connections end with the block, for its server may be killed."""
    from kind_echo.database.sessions import URL_VARIABLE, engine

    os.environ[URL_VARIABLE] = url
    engine.cache_clear()
    try:
        yield
    finally:
        engine().dispose()


def _wait(url: str, run: int) -> float:
    """Seconds until every cell of a run has ended. Raises SystemExit when none ends any more."""
    begun = moved = time.monotonic()
    last = -1
    while True:
        left = _left(url, run)
        now = time.monotonic()
        if left == 0:
            return now - begun
        if left is not None and left != last:
            last, moved = left, now
        if now - moved > _PATIENCE:
            raise SystemExit(f"No cell has ended for {_PATIENCE:.0f} s; {left} are left.")
        time.sleep(0.2)


def _left(url: str, run: int) -> int | None:
    """Cells of a run that have not ended; None while the database does not answer."""
    query = "SELECT count(*) FROM cell WHERE run_id = %s AND state NOT IN ('done', 'failed')"
    try:
        with psycopg.connect(url, autocommit=True, connect_timeout=2) as connection:
            row = connection.execute(query, [run]).fetchone()
    except psycopg.Error:
        return None
    return int(row[0]) if row else None


def _kill(stack: Stack, kind: str, dice: random.Random) -> int:
    """Kill one process of a kind; how many there were to kill."""
    victims = _victims(stack, kind)
    if not victims:
        return 0
    try:
        os.kill(dice.choice(victims), signal.SIGKILL)
    except ProcessLookupError:
        return 0
    return 1


def _victims(stack: Stack, kind: str) -> list[int]:
    if kind in ("worker", "web"):
        lines = stack._control("status").stdout.decode().splitlines()
        words = [line.split() for line in lines if line.startswith(kind)]
        return [int(one[3].rstrip(",")) for one in words if len(one) > 3 and one[1] == "RUNNING"]
    assert stack.cluster is not None
    file = stack.cluster.folder / "data" / "postmaster.pid"
    try:
        postmaster = int(file.read_text().split()[0])
        children = Path(f"/proc/{postmaster}/task/{postmaster}/children").read_text().split()
    except (OSError, ValueError, IndexError):
        return []
    return [postmaster] if kind == "postmaster" else [int(child) for child in children]


def _fill(folder: Path) -> None:
    """Fill the disk for some seconds."""
    path = folder / "filler"
    try:
        with path.open("wb") as file:
            while True:
                file.write(bytes(1 << 20))
    except OSError:
        time.sleep(8.0)
    finally:
        path.unlink(missing_ok=True)


def _wrong(url: str, calm: int, rough: int) -> list[str]:
    """What is not as it must be after the kills."""
    places = "SELECT case_id, condition_id, state, verdict, render.content_sha256, measured FROM cell "
    places += "LEFT JOIN render ON render.id = cell.render_id WHERE run_id = %s"
    with psycopg.connect(url, autocommit=True) as connection:
        before = {(row[0], row[1]): row[2:] for row in connection.execute(places, [calm])}
        after = {(row[0], row[1]): row[2:] for row in connection.execute(places, [rough])}
        unused = "SELECT count(*) FROM render r WHERE NOT EXISTS (SELECT 1 FROM cell c WHERE c.render_id = r.id)"
        spare = connection.execute(unused).fetchone()
    wrong = []
    if before.keys() != after.keys():
        wrong.append(f"{len(after)} cells instead of {len(before)}")
    failed = sum(row[0] == "failed" for row in after.values())
    differ = sum(_told(before[place]) != _told(after[place]) for place in before.keys() & after.keys())
    wrong += [f"{count} cells {name}" for name, count in (("failed", failed), ("differ", differ)) if count]
    if spare and spare[0]:
        wrong.append(f"{spare[0]} renders belong to no cell")
    return wrong


def _jobs_left(url: str) -> list[str]:
    """Jobs that stay: a cell ends before its job does, and the job of a worker that died between is given back late."""
    begun = time.monotonic()
    while True:
        with psycopg.connect(url, autocommit=True) as connection:
            jobs = connection.execute("SELECT status, count(*) FROM procrastinate_jobs GROUP BY 1").fetchall()
        if not jobs:
            return []
        if time.monotonic() - begun > _PATIENCE:
            return [f"jobs are left: {jobs}"]
        time.sleep(0.2)


def _told(row: tuple[str, str, str, dict[str, float]]) -> tuple[object, ...]:
    """State, verdict, digest of the samples and all readings, but for what rendering took."""
    from kind_echo.core.registry.measures import find_measure

    state, verdict, digest, measured = row
    return state, verdict, digest, {k: v for k, v in measured.items() if find_measure(k).family != "cost"}
