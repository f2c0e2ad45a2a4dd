"""A run of 2,000 cells, written from one of the demo's: for measuring the sheet at full size without rendering it."""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import product
from pathlib import Path
from typing import Any

import psycopg
from ops.stack import Stack
from sqlalchemy import insert
from sqlalchemy.orm import Session

from kind_echo.bench.plans import CaseDraft, null_test_limits, revise_plan
from kind_echo.bench.runs import cells_of, list_runs, places_in
from kind_echo.database.models import Cell, Condition, Plan, Run, Setting

_RATES = (44_100, 48_000, 88_200, 96_000, 192_000)
_BLOCKS = (32, 64, 128, 256, 512)
_PLACES = (("Almanac", "7", "real time"), ("Almanac", "7", "offline"))
_KEPT = ("state", "verdict", "why", "ink", "unfit", "broken", "measured", "render_id", "reference_id", "analysis_key")


def write_large_run(session: Session, version: str = "2.1.0-rc2") -> int:
    """Write a plan of 40 cases × 50 conditions and a finished run of it; the run's number.

    Its cells show what those of the demo's run of that version do, over and over.
    """
    small = next(s.run for s in list_runs(session) if (s.run.build.version, s.run.revision.plan.name)
                 == (version, "Null regression"))  # fmt: skip
    effect_id = small.build.effect_id
    plan = Plan(effect_id=effect_id, name="Everything, everywhere")
    session.add(plan)
    cases = small.revision.cases
    settings = [
        Setting(
            effect_id=effect_id,
            name=f"Drive {number:.1f} dB",
            parameters={**cases[0].setting.parameters, "drive": number},
        )
        for number in (step / 2 for step in range(8))
    ]
    conditions = [
        Condition(host=h, host_version=v, mode=m, rate=r, block_size=b, channels=2, word_length="PCM_24")
        for (h, v, m), r, b in product(_PLACES, _RATES, _BLOCKS)
    ]
    session.add_all([*settings, *conditions])
    session.flush()
    signals = list({case.signal_id: case.signal for case in cases}.values())
    spare = [case.setting for case in cases[:2]]
    drafts = [CaseDraft(signal, setting, null_test_limits()) for signal in signals for setting in [*settings, *spare]]
    drafts += [CaseDraft(signals[0], setting, null_test_limits(), takes=2) for setting in [*settings, *spare]]
    revision = revise_plan(session, plan, drafts, conditions, datetime.now(UTC))
    run = Run(
        revision_id=revision.id, build_id=small.build_id, requested_by="Benchmark", requested_at=datetime.now(UTC)
    )
    session.add(run)
    session.flush()
    models = cells_of(session, small.id)
    rows = [
        {"run_id": run.id, "case_id": case.id, "condition_id": condition}
        | {name: getattr(models[number % len(models)], name) for name in _KEPT}
        for number, (case, condition) in enumerate(places_in(revision))
    ]
    session.execute(insert(Cell), rows)
    return run.id


@contextmanager
def large_run(stack: Stack) -> Iterator[int]:
    """A copy of the demo with a run of 2,000 cells in it, and its number; the demo itself stays as it is."""
    cluster = stack.cluster
    if cluster is None:
        raise SystemExit("The sheet at full size is measured on the project's own PostgreSQL.")
    from kind_echo.database.backup import backup, restore
    from kind_echo.database.sessions import URL_VARIABLE, engine, transaction

    server, name = cluster.url.rsplit("/", 1)[0], "benchmark_sheet"
    admin: Any = psycopg.connect(f"{server}/postgres", autocommit=True)
    admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
    admin.execute(f"CREATE DATABASE {name}")
    with tempfile.TemporaryDirectory() as folder:
        os.environ[URL_VARIABLE] = cluster.url
        backup(Path(folder) / "demo")
        os.environ[URL_VARIABLE] = f"{server}/{name}"
        restore(Path(folder) / "demo")
    with transaction() as session:
        number = write_large_run(session)
    try:
        yield number
    finally:
        engine().dispose()
        engine.cache_clear()
        admin.execute(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)")
        admin.close()
