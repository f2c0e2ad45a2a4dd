"""A run of 20,000 cells among 1,000,000 that are kept: its sheet, the list of runs, what takes the space.

`python -m benchmarks.scale [--large 1]`: a database of its own, written by SQL; every answer is computed anew.
"""

import argparse
import time
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from sqlalchemy import text
from sqlalchemy.orm import Session

from benchmarks.runs import own_database

if TYPE_CHECKING:
    from kind_echo.database.models import PlanRevision

_NOW = datetime(2026, 11, 25, tzinfo=UTC)
_REPEATS = 5
_RATES, _BLOCKS = [44_100, 48_000, 88_200, 96_000], [32, 64, 128, 256, 512]
_VALUES = [round(-12.0 + 0.1 * step, 1) for step in range(125)]
_TONES = [f"Tone {k}" for k in (1, 2, 3, 4)]
_CELLS_A_TONE = len(_VALUES) * 2 * len(_RATES) * len(_BLOCKS)
_CELLS_KEPT = 1_000_000

# Readings as a compared tone has them; the random parts keep the rows from compressing better than real ones.
_MEASURED = """jsonb_build_object('rms', -9 - random(), 'sample_peak', -6 - random(), 'true_peak', -6 - random(),
'loudness_integrated', -9 - random(),
'residual_rms', -60 - 80 * random(), 'residual_peak', -50 - 80 * random(),
'delay', 0.0, 'gain', 0.001 * random(), 'correlation', 1.0,
'silent', 0.0, 'not_finite', 0.0, 'dc_offset', random() * 1e-5)"""

_RENDERS = """
INSERT INTO render (content_sha256, wall_seconds, cpu_seconds, readings, rendered_at, log)
SELECT :content, 0.1, 0.1, '[]', :now, '' FROM generate_series(1, :cells) RETURNING id
"""
_CELLS = f"""
INSERT INTO cell (run_id, case_id, condition_id, state, verdict, why, ink, unfit, broken, measured, reused, attempts,
                  log, rules, render_id, reference_id, facts)
SELECT :run, p.case_id, p.condition_id, 'done', v.verdict, CASE v.verdict WHEN 'Pass' THEN 'Identical to the reference'
    ELSE 'Residual: −61.3 dBFS, above −120' END, CASE v.verdict WHEN 'Pass' THEN 0 ELSE random() END, false,
    CASE v.verdict WHEN 'Pass' THEN '[]' ELSE '["residual_rms"]' END::jsonb, {_MEASURED}, false, 1, '', :rules,
    :first + p.number - 1, NULL, jsonb_build_object(
        'ground', CASE v.verdict WHEN 'Pass' THEN 'identical' WHEN 'Fail' THEN 'limit broken' WHEN 'Changed'
                  THEN 'changed' ELSE 'no value' END,
        'other', 'the reference', 'found', CASE v.verdict WHEN 'Pass' THEN '[]' ELSE jsonb_build_array(
            jsonb_build_object('reading', jsonb_build_object('measure', 'residual_rms', 'channel', 'all',
                'value', CASE v.verdict WHEN 'No reading' THEN NULL ELSE -61.3 END, 'why', NULL))) END)
FROM (SELECT c.id AS case_id, d.id AS condition_id, row_number() OVER (ORDER BY c.id, d.id) AS number
      FROM "case" c CROSS JOIN condition d WHERE c.revision_id = :revision AND d.id = ANY(:conditions)) p
CROSS JOIN LATERAL (SELECT CASE WHEN r < 0.95 THEN 'Pass' WHEN r < 0.98 THEN 'Fail' WHEN r < 0.99 THEN 'Changed'
                    ELSE 'No reading' END AS verdict FROM (SELECT random() AS r WHERE p.number > 0) x) v
"""


def report(large: int) -> list[str]:
    """The figures, a line each."""
    with own_database():
        from kind_echo.database.sessions import engine, transaction
        from kind_echo.web.serving.server import collect_garbage_seldom

        collect_garbage_seldom()  # as the server does

        with transaction() as session:
            written = _write(session, large)
        with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
            connection.execute(text("VACUUM ANALYZE"))
        with transaction() as session:
            cells = session.scalar(text("SELECT count(*) FROM cell"))
            sizes = session.execute(
                text(
                    "SELECT relname, pg_total_relation_size(oid) FROM pg_class WHERE relkind = 'r' "
                    "AND relname IN ('cell', 'render') ORDER BY 1"
                )
            ).all()
        paths = {
            "its sheet": f"/api/runs/{written[-1]}", "the newest 50 runs": "/api/runs?most=50",
            "one cell": f"/api/cells/{cells}", "what takes the space": "/api/storage",
            "what would be dropped": "/api/storage/dry-run?keep_runs=10",
        }  # fmt: skip
        spent = {name: asked(path) for name, path in paths.items()}
    lines = [
        f"{name}, {cells} cells kept: {seconds:.2f} s, {size / 1e3:.0f} kB sent"
        for name, (seconds, size) in spent.items()
    ]
    return [*lines, *(f"table {name}: {size / max(1, cells or 1):.0f} bytes a cell" for name, size in sizes)]


def _write(session: Session, large: int) -> list[int]:
    """Write runs of 1,000 cells and then runs of 20,000, a million cells in all; their numbers in that order."""
    import numpy as np

    from kind_echo.audio_io.encoding import ENCODINGS
    from kind_echo.core.audio.source import ArraySource
    from kind_echo.database.blobs import store_content

    content = store_content(session, ArraySource(np.zeros((480, 2)), 48_000), ENCODINGS["FLOAT"]).sha256
    small = (_CELLS_KEPT - large * len(_TONES) * _CELLS_A_TONE) // (_CELLS_A_TONE // 5)
    few = write_runs(session, "Small", _TONES[:1], _VALUES[: len(_VALUES) // 5], small, content)
    return few + write_runs(session, "Large", _TONES, _VALUES, large, content)


def write_runs(
    session: Session, name: str, tones: Sequence[str], values: Sequence[float], runs: int, content: str
) -> list[int]:
    """Write a plan of Skerry of so many tones and drives in 40 conditions, and finished runs of it; their numbers."""
    from kind_echo.bench.plans import PlanDocument, find_build, plan_numbered, save_plan
    from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep

    document = PlanDocument(
        plan=name, effect="Skerry",
        signals={tone: {"kind": "tone", "level": -6.0 - k, "seconds": 1.0} for k, tone in enumerate(tones)},
        cases=[PlanCase(signal=tone, setting="Hard, 8×", sweep=Sweep(parameter="drive", values=[*values]))
               for tone in tones],
        conditions=[PlanCondition(host="Almanac", version="7", modes=["real time", "offline"], rates=_RATES,
                                  blocks=_BLOCKS)],
    )  # fmt: skip
    revision = save_plan(session, document, who="Benchmark", now=_NOW)
    build = find_build(session, plan_numbered(session, revision.plan_id), "2.1.0-rc1")
    return write_runs_of(session, revision, [build.id] * runs, content)


def write_runs_of(session: Session, revision: "PlanRevision", builds: Sequence[int], content: str) -> list[int]:
    """Write a finished run of a plan on each of the builds; their numbers."""
    from kind_echo.core.verdicts.rules import RULES_VERSION
    from kind_echo.database.models import Run

    cells = len(revision.cases) * len(revision.condition_ids)
    written = []
    for build in builds:
        run = Run(revision_id=revision.id, build_id=build, requested_by="Benchmark", requested_at=_NOW)
        session.add(run)
        session.flush()
        first = min(session.scalars(text(_RENDERS), {"content": content, "now": _NOW, "cells": cells}))
        session.execute(text(_CELLS), {
            "run": run.id, "first": first, "revision": revision.id, "conditions": revision.condition_ids,
            "rules": RULES_VERSION,
        })  # fmt: skip
        written.append(run.id)
    return written


def asked(path: str) -> tuple[float, int]:
    """Middle of the seconds in which the server, in this process, answers; and the bytes that it sends."""
    from tests.signing import sign

    from kind_echo.web.app import create_app
    from kind_echo.web.serving.server import collect_garbage_seldom

    collect_garbage_seldom()  # as a server does
    spent, size = [], 0
    for _ in range(_REPEATS):
        client = sign(create_app().test_client())  # a server that keeps no answer of before
        begin = time.perf_counter()
        answer = client.get(path, headers={"Accept-Encoding": "gzip"})
        spent.append(time.perf_counter() - begin)
        size = len(answer.data)
        if answer.status_code != 200:
            raise SystemExit(f"{path} answered {answer.status_code}")
    return sorted(spent)[_REPEATS // 2], size


def main() -> None:
    """Write, ask, print."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--large", type=int, default=1, help="runs of 20,000 cells; the others have 1,000")
    for line in report(parser.parse_args().large):
        print(line, flush=True)


if __name__ == "__main__":
    main()
