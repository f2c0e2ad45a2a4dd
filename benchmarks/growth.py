"""How answers grow with 2,000, 20,000 and 60,000 cells, and with 200 effects, 2,000 builds and 5,000 runs.

`python -m benchmarks.growth`: a database of its own for each size, written by SQL, every answer computed anew. The
database's plan of each query that an answer makes is read too: none may go through all cells there are.
"""

import argparse
import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import event, text
from sqlalchemy.orm import Session

from benchmarks.runs import own_database
from benchmarks.scale import asked, write_runs, write_runs_of

_NOW = datetime(2026, 11, 25, tzinfo=UTC)
_SIZES = {2_000: (1, 50, 1), 20_000: (4, 125, 1), 60_000: (4, 125, 3)}
"""Cells: from so many tones, and so many drives of each, in 40 conditions, in so many plans: one has 20,000 at most."""

_OTHERS, _OTHER_VALUES = 4, [round(0.1 * step, 1) for step in range(25)]
"""Times as many cells in runs of another plan, of a thousand each: an index is for a table with more in it."""

_EFFECTS, _BUILDS, _RUNS = 200, 10, 25  # builds of an effect, runs of it
_LARGE = ("cell", "render", "analysis", "chunk", "peak_level")
"""Tables that none of these answers may go through from end to end."""

_LITTLE = 1000  # rows
_BUILDS_COMPARED = 3


def report() -> list[str]:
    """The figures, a line each; every part in a process of its own, as a server is."""
    lines = []
    for part in (*map(str, _SIZES), "lists"):
        with tempfile.NamedTemporaryFile("r", suffix=".json") as found:
            command = [sys.executable, "-m", "benchmarks.growth", "--part", part, "--into", found.name]
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            lines += json.load(found)
    return lines


def _of_size(cells: int) -> list[str]:
    tones, values, plans = _SIZES[cells]
    with own_database():
        from kind_echo.database.sessions import transaction

        with transaction() as session:
            content = silence(session)
            write_runs(session, "Others", ["Tone 1"], _OTHER_VALUES, _OTHERS * cells // 1000, content)
            names = [f"Tone {k}" for k in range(1, tones + 1)]
            drives = [round(-12.0 + 0.1 * step, 1) for step in range(values)]
            runs = [write_runs(session, f"Grown {number}", names, drives, 1, content)[-1] for number in range(plans)]
            run = runs[-1]
            plan = _on_other_builds(session, run, content)
        _analyse()
        lines = [f"{cells} cells, {name}: {told}" for name, told in _answers(_paths(run, plan, cells)).items()]
        lines.append(f"{cells} cells, starting a run: {_started(plan):.2f} s")
    return lines


def _paths(run: int, plan: int, cells: int) -> dict[str, str]:
    return {
        "its sheet": f"/api/runs/{run}", "another measure": f"/api/runs/{run}?measure=gain",
        "one cell": f"/api/cells/{cells}", "the list of runs": "/api/runs?most=50", "the overview": "/api/overview",
        "a trend over three builds": f"/api/trends?plan_id={plan}&measure=gain",
        "every measure by build": f"/api/trends/{plan}/measures",
    }  # fmt: skip


def _of_lists() -> list[str]:
    with own_database():
        from kind_echo.database.sessions import transaction

        with transaction() as session:
            content = silence(session)
            for number in range(_EFFECTS):
                _effect_with_runs(session, number, content)
        _analyse()
        paths = {
            "the list of runs": "/api/runs?most=50", "the overview": "/api/overview", "plans": "/api/plans",
            "effects": "/api/effects", "references": "/api/references", "what a trend opens on": "/api/trends",
        }  # fmt: skip
        what = f"{_EFFECTS} effects, {_EFFECTS * _BUILDS} builds, {_EFFECTS * _RUNS} runs"
        return [f"{what}, {name}: {told}" for name, told in _answers(paths).items()]


def silence(session: Session) -> str:
    """The content of 10 ms of silence, as what every render of a grown run holds; its digest."""
    from kind_echo.audio_io.encoding import ENCODINGS
    from kind_echo.core.audio.source import ArraySource
    from kind_echo.database.blobs import store_content

    return store_content(session, ArraySource(np.zeros((480, 2)), 48_000), ENCODINGS["FLOAT"]).sha256


def _on_other_builds(session: Session, run_id: int, content: str) -> int:
    """The same plan on further builds; its number."""
    from kind_echo.database.models import Build, Run

    run = session.get_one(Run, run_id)
    made = [
        Build(effect_id=run.build.effect_id, version=f"9.{k}", position=900 + k, note="")
        for k in range(1, _BUILDS_COMPARED)
    ]
    session.add_all(made)
    session.flush()
    write_runs_of(session, run.revision, [build.id for build in made], content)
    return run.revision.plan_id


def _effect_with_runs(session: Session, number: int, content: str) -> None:
    """An effect like Skerry with builds, a plan of twenty cells, and runs of it."""
    from sqlalchemy import select

    from kind_echo.bench.plans import PlanDocument, save_plan
    from kind_echo.bench.plans.document import PlanCase, PlanCondition
    from kind_echo.database.models import Build, Effect, Setting

    like = session.scalars(select(Effect).where(Effect.name == "Skerry")).one()
    setting = session.scalars(select(Setting).where(Setting.effect_id == like.id, Setting.name == "Hard, 8×")).one()
    effect = Effect(name=f"Skerry {number}", description="", parameters=like.parameters, channels=like.channels,
                    offered_as="Skerry")  # fmt: skip
    session.add(effect)
    session.flush()
    builds = [Build(effect_id=effect.id, version=f"1.{k}", position=k, note="") for k in range(_BUILDS)]
    session.add_all([*builds, Setting(effect_id=effect.id, name="Hard", parameters=setting.parameters)])
    session.flush()
    document = PlanDocument(
        plan=f"Plan {number}", effect=effect.name,
        signals={"Short tone": {"kind": "tone", "level": -6.0, "seconds": 1.0}},
        cases=[PlanCase(signal="Short tone", setting="Hard")],
        conditions=[PlanCondition(host="Almanac", version="7", modes=["real time", "offline"],
                                  rates=[44_100, 48_000], blocks=[32, 64, 128, 256, 512])],
    )  # fmt: skip
    revision = save_plan(session, document, who="Benchmark", now=_NOW)
    write_runs_of(session, revision, [builds[k % _BUILDS].id for k in range(_RUNS)], content)


def _analyse() -> None:
    from kind_echo.database.sessions import engine

    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text("VACUUM ANALYZE"))


def _answers(paths: dict[str, str]) -> dict[str, str]:
    """Of each answer its seconds and size, and the tables that it goes through from end to end."""
    told = {}
    for name, path in paths.items():
        seconds, size = asked(path)
        through = _read_through(path)
        plans = "no table of cells or audio read through" if not through else f"READ THROUGH: {', '.join(through)}"
        told[name] = f"{seconds:.2f} s, {size / 1e3:.0f} kB sent, {plans}"
    return told


def _read_through(path: str) -> list[str]:
    """Large tables that a query of this answer reads from end to end, by the database's own plan of it."""
    from kind_echo.database.sessions import engine

    with _statements() as seen:
        asked(path)
    found = set()
    with engine().connect() as connection:
        raw = connection.connection.cursor()
        for statement, parameters in seen:
            raw.execute(f"EXPLAIN (FORMAT JSON) {statement}", parameters)
            (plan,) = raw.fetchone()
            found |= set(_scanned(plan if isinstance(plan, list) else json.loads(plan)))
        # Of a table with next to nothing in it an index is of no use.
        sizes = connection.execute(text("SELECT relname, reltuples FROM pg_class WHERE relkind = 'r'"))
        large = {name for name, rows in sizes if rows > _LITTLE}
    return sorted(found & large)


def _scanned(node: Any) -> Iterator[str]:
    if isinstance(node, list):
        for one in node:
            yield from _scanned(one)
    elif isinstance(node, dict):
        if node.get("Node Type") == "Seq Scan" and node.get("Relation Name") in _LARGE:
            yield node["Relation Name"]
        for one in node.values():
            yield from _scanned(one)


@contextmanager
def _statements() -> Iterator[list[tuple[str, Any]]]:
    """What is asked of the database meanwhile."""
    from kind_echo.database.sessions import engine

    seen: dict[str, Any] = {}

    def note(_: Any, __: Any, statement: str, parameters: Any, *___: Any) -> None:
        if statement.lstrip().upper().startswith("SELECT") and "FOR UPDATE" not in statement:
            seen.setdefault(statement, parameters)

    listed: list[tuple[str, Any]] = []
    event.listen(engine(), "before_cursor_execute", note)
    try:
        yield listed
    finally:
        event.remove(engine(), "before_cursor_execute", note)
        listed += seen.items()


def _started(plan: int) -> float:
    """Seconds until a run of all cells is there, and its jobs can be taken."""
    from kind_echo.bench.plans import find_build, plan_numbered
    from kind_echo.bench.runs import start_run
    from kind_echo.database.sessions import transaction

    begin = time.perf_counter()
    with transaction() as session:
        build = find_build(session, plan_numbered(session, plan), "2.1.0-rc1")
        start_run(session, plan, build.id, who="Benchmark", now=_NOW)
    return time.perf_counter() - begin


def main() -> None:
    """Measure all, or one part, and print or write what was found."""
    from kind_echo.web.serving.server import collect_garbage_seldom

    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--part", choices=[*map(str, _SIZES), "lists"], help="one part alone")
    parser.add_argument("--into", type=Path, help="where its lines go, as JSON")
    asked_for = parser.parse_args()
    if asked_for.part is None:
        print("\n".join(report()))
        return
    collect_garbage_seldom()  # as the server does
    lines = _of_lists() if asked_for.part == "lists" else _of_size(int(asked_for.part))
    if asked_for.into is None:
        print("\n".join(lines))
    else:
        asked_for.into.write_text(json.dumps(lines))


if __name__ == "__main__":
    main()
