"""The list of runs with 500 runs of 200 cells, and one act on the 200 cells of a run, on a server of its own."""

import time
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import event, insert, select, text, update
from sqlalchemy.orm import Session

from benchmarks.runs import own_database

RUNS, CELLS = 500, 200
_REPEATS = 7
_RATES, _BLOCKS = [44_100, 48_000], [32, 64, 128, 256, 512]
_SHARES = (("Pass", 0.88), ("Fail", 0.06), ("Changed", 0.04), ("No reading", 0.02))
_NOW = datetime(2026, 11, 25, tzinfo=UTC)


def report() -> list[str]:
    """The figures, a line each."""
    with own_database():
        from kind_echo.database.sessions import transaction

        with transaction() as session:
            runs = _write(session)
        with transaction() as session:
            session.execute(text("ANALYZE"))
        page = [_asked(f"/api/runs?most=50{more}") for more in ("", f"&before={runs[50]}", f"&before={runs[-60]}")]
        one, whole = _asked("/api/plans"), _asked("/api/overview")
        spent, statements = _approved(runs[0])
    return [
        f"list of {RUNS} runs of {CELLS} cells: newest 50 {1000 * page[0]:.0f} ms, next {1000 * page[1]:.0f} ms, "
        f"oldest {1000 * page[2]:.0f} ms; {page[0] / one:.1f} × the list of plans",
        f"how it all stands: {1000 * whole:.0f} ms, {whole / page[0]:.1f} × the newest 50 runs",
        f"approving the {CELLS} cells of a run: {spent:.2f} s, {statements} statements",
    ]


def _asked(path: str) -> float:
    """Middle of the seconds in which the server, in this process, answers."""
    from tests.signing import sign

    from kind_echo.web.app import create_app

    client = sign(create_app().test_client())
    spent = []
    for _ in range(_REPEATS):
        begin = time.perf_counter()
        answer = client.get(path)
        spent.append(time.perf_counter() - begin)
        if answer.status_code != 200:
            raise SystemExit(f"{path} answered {answer.status_code}")
    return sorted(spent)[_REPEATS // 2]


def _write(session: Session) -> list[int]:
    """Write the runs, finished, each cell with a render, and decisions on a tenth of the runs; newest first."""
    from kind_echo.audio_io.encoding import Encoding
    from kind_echo.bench.decisions import decide
    from kind_echo.bench.plans import PlanDocument, find_build, plan_numbered, save_plan
    from kind_echo.bench.plans.document import PlanCase, PlanCondition, Sweep
    from kind_echo.bench.runs import places_in
    from kind_echo.core.audio.source import ArraySource
    from kind_echo.database.blobs import store_content
    from kind_echo.database.models import Cell, Reference, Render, Run

    drives = [round(0.5 * step, 1) for step in range(CELLS // (2 * len(_RATES) * len(_BLOCKS)))]
    document = PlanDocument(
        plan="Many", effect="Skerry",
        signals={"Short tone": {"kind": "tone", "level": -6.0, "seconds": 1.0}},
        cases=[PlanCase(signal="Short tone", setting="Hard, 8×", sweep=Sweep(parameter="drive", values=[*drives]))],
        conditions=[PlanCondition(host="Almanac", version="7", modes=["real time", "offline"], rates=_RATES,
                                  blocks=_BLOCKS)],
    )  # fmt: skip
    plan = save_plan(session, document, who="Benchmark", now=_NOW)
    build = find_build(session, plan_numbered(session, plan.plan_id), "2.1.0-rc1")
    places = [(case.id, condition) for case, condition in places_in(plan)]
    content = store_content(session, ArraySource(np.zeros((480, 2)), 48_000), Encoding("FLOAT", 32))
    rng = np.random.default_rng(1)
    session.execute(update(Run).values(priority=0))
    runs: list[int] = []
    references: dict[tuple[int, int], int] = {}
    for number in range(RUNS):
        made = _NOW + timedelta(minutes=number)
        run = Run(revision_id=plan.id, build_id=build.id, requested_by="Benchmark", requested_at=made)
        session.add(run)
        session.flush()
        runs.append(run.id)
        render = {"content_sha256": content.sha256, "wall_seconds": 1.0, "cpu_seconds": 1.0, "readings": []}
        rows: list[dict[str, Any]] = [render | {"rendered_at": made + timedelta(seconds=k)} for k in range(len(places))]
        renders = list(session.scalars(insert(Render).returning(Render.id), rows))
        verdicts = rng.choice([name for name, _ in _SHARES], len(places), p=[share for _, share in _SHARES])
        session.execute(insert(Cell), [
            {"run_id": run.id, "case_id": case, "condition_id": condition, "state": "done", "verdict": str(verdict),
             "broken": [] if verdict == "Pass" else ["residual_rms"], "render_id": made_of,
             "reference_id": references.get((case, condition))}
            for (case, condition), verdict, made_of in zip(places, verdicts, renders, strict=True)
        ])  # fmt: skip
        if not references:
            fit = select(Cell.id).where(Cell.run_id == run.id, Cell.verdict != "No reading")
            decide(session, list(session.scalars(fit)), "reference", who="Benchmark", now=_NOW)
            of = select(Cell.case_id, Cell.condition_id, Reference.id).join(Reference, Reference.cell_id == Cell.id)
            references = {(case, condition): reference for case, condition, reference in session.execute(of)}
            session.execute(update(Cell).values(state="done"))
    for run_id in runs[::10]:
        failing = select(Cell.id).where(Cell.run_id == run_id, Cell.verdict == "Fail")
        decide(session, list(session.scalars(failing)), "accepted", who="Benchmark", now=_NOW, why="known")
    return runs[::-1]


def _approved(run_id: int) -> tuple[float, int]:
    """Seconds and statements of one act that makes references of all cells of a run that it can."""
    from kind_echo.bench.decisions import decide
    from kind_echo.database.models import Cell
    from kind_echo.database.sessions import transaction

    counted = [0]
    with transaction() as session:
        event.listen(session.get_bind(), "before_cursor_execute", lambda *_: counted.__setitem__(0, counted[0] + 1))
        cells = list(session.scalars(select(Cell.id).where(Cell.run_id == run_id, Cell.verdict != "No reading")))
        counted[0], begin = 0, time.perf_counter()
        decide(session, cells, "reference", who="Benchmark", now=_NOW, why="all of them")
    return time.perf_counter() - begin, counted[0]


if __name__ == "__main__":
    for line in report():
        print(line)
