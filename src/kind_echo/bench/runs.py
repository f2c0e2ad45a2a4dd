"""Runs: one execution of a plan on a build, cell by cell."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, insert, select
from sqlalchemy.orm import Session, joinedload

from kind_echo.bench.hosts import BY_HAND, renderers_of
from kind_echo.bench.plans import BuildNotFound, latest_revision
from kind_echo.bench.queue import ANALYSIS_PRIORITY, ANALYSIS_QUEUE, RENDER_PRIORITY, enqueue
from kind_echo.core.errors import KindEchoError
from kind_echo.store.models import Build, Case, Cell, Condition, Event, Run

CHANNEL = "kind_echo_run"
"""The PostgreSQL channel on which the number of a run is sent when one of its cells changes."""


class RunNotFound(KindEchoError):
    """A run is asked for that is not there."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        super().__init__(f"There is no run {run_id}.")


class CellNotFound(KindEchoError):
    """A cell is asked for that is not there."""

    def __init__(self, cell_id: int) -> None:
        self.cell_id = cell_id
        super().__init__(f"There is no cell {cell_id}.")


@dataclass(frozen=True)
class RunSummary:
    """A run with the count of its cells by verdict."""

    run: Run
    verdicts: dict[str, int]
    finished: int

    @property
    def cells(self) -> int:
        """Cells in all."""
        return sum(self.verdicts.values())


def start_run(
    session: Session, plan_id: int, build_id: int, *, who: str, now: datetime, priority: int = RENDER_PRIORITY
) -> Run:
    """Enqueue a render for every case under every condition of the newest revision of a plan.

    Cells of hosts that are rendered by hand wait for what comes back from a kit.

    Raises:
        PlanNotFound, BuildNotFound: there is no such plan, or no such build of its effect.
        HostNotFound: a condition names a host that nobody has told of.
    """
    revision = latest_revision(session, plan_id)
    build = session.get(Build, build_id)
    if build is None or build.effect_id != revision.plan.effect_id:
        raise BuildNotFound(build_id)
    conditions = session.scalars(select(Condition).where(Condition.id.in_(revision.condition_ids)))
    queues = renderers_of(session, conditions)
    run = Run(revision_id=revision.id, build_id=build.id, requested_by=who, requested_at=now)
    session.add(run)
    session.flush()
    wanted = [
        {"run_id": run.id, "case_id": case.id, "condition_id": condition}
        for case in revision.cases
        for condition in revision.condition_ids
    ]
    cell_ids = session.scalars(insert(Cell).returning(Cell.id, sort_by_parameter_order=True), wanted).all()
    for cell, cell_id in zip(wanted, cell_ids, strict=True):
        if queues[cell["condition_id"]] != BY_HAND:
            enqueue(session, "render_cell", queues[cell["condition_id"]], priority, cell_id=cell_id)
    session.add(Event(at=now, who=who, what="run started", detail={"run": run.id, "build": build.version}))
    return run


def find_run(session: Session, run_id: int) -> Run:
    """A run by its number. Raises RunNotFound."""
    run = session.get(Run, run_id)
    if run is None:
        raise RunNotFound(run_id)
    return run


def find_cell(session: Session, cell_id: int, *, lock: bool = False) -> Cell:
    """A cell by its number; with `lock`, no other transaction changes it until this one ends. Raises CellNotFound."""
    query = select(Cell).where(Cell.id == cell_id)
    cell = session.scalar(query.with_for_update() if lock else query)
    if cell is None:
        raise CellNotFound(cell_id)
    return cell


def cells_of(session: Session, run_id: int) -> list[Cell]:
    """All cells of a run with what the sheet shows of them."""
    query = (
        select(Cell)
        .where(Cell.run_id == run_id)
        .options(joinedload(Cell.analysis), joinedload(Cell.render))
        .order_by(Cell.id)
    )
    return list(session.scalars(query))


def conditions_of(session: Session, run: Run) -> list[Condition]:
    """The conditions of a run in the plan's order."""
    found = {c.id: c for c in session.scalars(select(Condition).where(Condition.id.in_(run.revision.condition_ids)))}
    return [found[condition_id] for condition_id in run.revision.condition_ids]


def cases_of(run: Run) -> Sequence[Case]:
    """The cases of a run in the plan's order."""
    return run.revision.cases


def all_runs(session: Session) -> list[RunSummary]:
    """Every run, newest first, with its counts."""
    counts: dict[int, dict[str, int]] = {}
    finished: dict[int, int] = {}
    rows = session.execute(select(Cell.run_id, Cell.verdict, Cell.state, func.count()).group_by(*_BY))
    for run_id, verdict, state, count in rows:
        verdicts = counts.setdefault(run_id, {})
        verdicts[verdict] = verdicts.get(verdict, 0) + count
        finished[run_id] = finished.get(run_id, 0) + (count if state in ("done", "failed") else 0)
    runs = session.scalars(select(Run).order_by(Run.id.desc()))
    return [RunSummary(run, counts.get(run.id, {}), finished.get(run.id, 0)) for run in runs]


_BY = (Cell.run_id, Cell.verdict, Cell.state)


def tell_change(session: Session, run_id: int) -> None:
    """Let pages that show a run know, once this transaction commits, that one of its cells changed."""
    session.execute(select(func.pg_notify(CHANNEL, str(run_id))))


def judge_again(session: Session, cells: Sequence[Cell]) -> None:
    """Enqueue a new verdict for cells whose reference changed."""
    for cell in cells:
        cell.state = "analysing"
        enqueue(session, "analyse_cell", ANALYSIS_QUEUE, ANALYSIS_PRIORITY, cell_id=cell.id)
    for run_id in {cell.run_id for cell in cells}:
        tell_change(session, run_id)
