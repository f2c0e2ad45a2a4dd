"""Runs: one execution of a plan on a build, cell by cell."""

from collections.abc import Callable, Iterable, Sequence
from datetime import datetime
from typing import Literal

from sqlalchemy import Integer, and_, cast, func, insert, literal, or_, select, update
from sqlalchemy.dialects.postgresql import ARRAY, array
from sqlalchemy.orm import Session, joinedload

from kind_echo.bench.machines import BY_HAND, nobody_has, routes_of
from kind_echo.bench.plans import BuildNotOfPlan, latest_revision
from kind_echo.bench.queue import (
    RENDER_PRIORITY,
    advance_search,
    analyse_cells,
    cancel_renders,
    check_kit,
    prepare_run,
    render_cells,
)
from kind_echo.bench.verdicts import forget_verdict, give_up_cell
from kind_echo.core.registry.errors import Conflict, NotFound
from kind_echo.database.models import (
    Build,
    Case,
    Cell,
    Condition,
    Event,
    PlanRevision,
    Render,
    Run,
    Search,
)

CHANNEL = "kind_echo_run"
"""The PostgreSQL channel on which the number of a run is sent when one of its cells changes."""


What = Literal["what changed", "everything"]
"""What a run renders."""


class RunNotFound(NotFound):
    """A run is asked for that is not there."""

    def __init__(self, run_id: int) -> None:
        self.run_id = run_id
        super().__init__(f"There is no run {run_id}.")


class CellNotFound(NotFound):
    """A cell is asked for that is not there."""

    def __init__(self, cell_id: int) -> None:
        self.cell_id = cell_id
        super().__init__(f"There is no cell {cell_id}.")


class Archived(Conflict):
    """A run is asked for of what is archived."""

    def __init__(self, what: str) -> None:
        self.what = what
        super().__init__(f"Nothing was started: the {what} is archived. Bring it back first.")


class CannotRenderAgain(Conflict):
    """Cells are in no state to be rendered anew."""

    def __init__(self, cell_ids: tuple[int, ...], reason: str) -> None:
        self.cell_ids, self.reason = cell_ids, reason
        cells = "1 of the cells is" if len(cell_ids) == 1 else f"{len(cell_ids)} of the cells are"
        super().__init__(f"Nothing is rendered again: {cells} {reason}.")


def start_run(
    session: Session,
    plan_id: int,
    build_id: int,
    *,
    who: str,
    now: datetime,
    priority: int = RENDER_PRIORITY,
    render: What = "what changed",
    artefact: str = "",
) -> Run:
    """Start a run of the newest revision of a plan: all its cases under all its conditions but what it excludes.

    Cells of hosts that are rendered by hand wait for what comes back from a kit.

    Args:
        priority: a run of a greater one is rendered first.
        render: whether renders of earlier runs are taken over where nothing has changed since.
        artefact: what the build was made of, as whoever submits it says.
    Raises:
        PlanNotFound, BuildNotOfPlan: there is no such plan, or no such build of its effect.
        HostNotFound: a condition names a host that nobody has told of.
        Archived: the plan, the build or the effect is archived.
    """
    revision = latest_revision(session, plan_id)
    build = session.get(Build, build_id)
    if build is None or build.effect_id != revision.plan.effect_id:
        raise BuildNotOfPlan(build_id)
    for what, one in (("plan", revision.plan), ("build", build), ("effect", build.effect)):
        if one.archived_at is not None:
            raise Archived(what)
    run = Run(
        revision_id=revision.id, build_id=build.id, requested_by=who, requested_at=now, priority=priority,
        forced=render == "everything", artefact=artefact,
    )  # fmt: skip
    session.add(run)
    session.flush()
    _add_cells(session, run, places_in(revision))
    prepare_all(session, run)
    session.add(Event(at=now, who=who, what="run started", detail={"run": run.id, "build": build.version}))
    return run


def _add_cells(session: Session, run: Run, places: Iterable[tuple[Case, int]]) -> None:
    """A waiting cell for each place, by one statement however many there are."""
    each = [(case.id, condition) for case, condition in places]
    at = (
        func.unnest(
            cast([case for case, _ in each], ARRAY(Integer)), cast([condition for _, condition in each], ARRAY(Integer))
        )
        .table_valued("case_id", "condition_id")
        .render_derived()
    )
    begun = {"run_id": run.id, "state": "waiting", "verdict": "Waiting", "why": "", "ink": 0.0, "unfit": False,
             "attempts": 0}  # fmt: skip
    chosen = select(at.c.case_id, at.c.condition_id, *(literal(value) for value in begun.values()))
    session.execute(insert(Cell).from_select(["case_id", "condition_id", *begun], chosen, include_defaults=False))


def find_alike(session: Session, plan_id: int, build_id: int, *, render: What, artefact: str) -> Run | None:
    """The newest run of the same revision of a plan on the same build, which whoever submits that again joins.

    One that is over is the same only where both say what the build was made of. Until the transaction ends nobody else
    looks for one of this build.

    Args:
        render, artefact: as the run that would be started has them.
    """
    session.execute(select(Build.id).where(Build.id == build_id).with_for_update())
    under_way = select(Cell.id).where(Cell.run_id == Run.id, ~Cell.finished).exists()
    is_same = and_(Run.artefact == artefact, Run.artefact != "")
    query = (
        select(Run)
        .where(
            Run.revision_id == latest_revision(session, plan_id).id, Run.build_id == build_id, Run.search_id.is_(None),
            Run.stopped_at.is_(None), Run.archived_at.is_(None), Run.forced == (render == "everything"),
            or_(is_same, and_(under_way, Run.artefact == artefact)),
        )
        .order_by(Run.id.desc())
    )  # fmt: skip
    return session.scalars(query.limit(1)).first()


def start_search_run(session: Session, search: Search, build: Build, now: datetime) -> Run:
    """Render the one cell that a search asks for, before all else."""
    priority = (session.scalar(select(func.max(Run.priority))) or 0) + 1
    run = Run(
        revision_id=search.case.revision_id, build_id=build.id, requested_by=search.started_by, requested_at=now,
        priority=priority, search_id=search.id,
    )  # fmt: skip
    session.add(run)
    session.flush()
    cell = Cell(run_id=run.id, case_id=search.case_id, condition_id=search.condition_id)
    session.add(cell)
    session.flush()
    if nobody_has(session, build, [search.condition]):
        # A search goes on with other builds; it does not wait for a machine that may never come.
        where = f"{search.condition.host} {search.condition.host_version}"
        give_up_cell(cell, f"No known machine has {build.effect.name} {build.version} in {where}")
        advance_search(session, search.id)
        return run
    prepare_all(session, run)
    return run


def places_in(revision: PlanRevision) -> list[tuple[Case, int]]:
    """The cases of a revision, each with the numbers of the conditions that it is rendered under, in order."""
    excluded = {(position, condition) for position, condition in revision.excluded}
    return [
        (case, condition)
        for case in revision.cases
        for condition in revision.condition_ids
        if (case.position, condition) not in excluded
    ]


def waiting_cells(session: Session, run: Run, queue: str) -> list[Cell]:
    """Cells of a run whose renders stand on a queue, or are still to be put there; with what a render depends on."""
    routes = routes_of(session, run.build, conditions_of(session, run))
    mine = [condition for condition, route in routes.items() if route == queue]
    query = (
        select(Cell)
        .where(Cell.run_id == run.id, Cell.state == "waiting", Cell.condition_id.in_(mine))
        .options(
            joinedload(Cell.case).options(joinedload(Case.signal), joinedload(Case.setting)),
            joinedload(Cell.condition),
        )
        .order_by(Cell.id)
    )
    return list(session.scalars(query))


def stop_run(session: Session, run_id: int, *, who: str, now: datetime) -> Run:
    """Render no more of a run; what is being rendered is finished, and what is there stays. Raises RunNotFound."""
    run = _locked(session, run_id)
    if run.stopped_at is None:
        run.stopped_at, run.stopped_by = now, who
        cancel_renders(session, run_id)
        session.add(Event(at=now, who=who, what="run stopped", detail={"run": run_id}))
        tell_change(session, run_id)
    return run


def resume_run(session: Session, run_id: int, *, who: str, now: datetime) -> Run:
    """Go on with a run that was stopped, from where it was. Raises RunNotFound."""
    run = _locked(session, run_id)
    if run.stopped_at is not None:
        run.stopped_at, run.stopped_by = None, None
        prepare_all(session, run)
        session.add(Event(at=now, who=who, what="run resumed", detail={"run": run_id}))
        tell_change(session, run_id)
    return run


def put_first(session: Session, run_id: int, *, who: str, now: datetime) -> Run:
    """Render what a run still waits for before that of all other runs. Raises RunNotFound."""
    run = _locked(session, run_id)
    run.priority = (session.scalar(select(func.max(Run.priority))) or 0) + 1
    cancel_renders(session, run_id)
    if run.stopped_at is None:
        prepare_all(session, run)
    session.add(Event(at=now, who=who, what="run put first", detail={"run": run_id}))
    return run


def render_again(session: Session, cell_ids: Sequence[int], *, who: str, now: datetime) -> list[Cell]:
    """Render cells anew, whatever earlier runs made of the same; their verdicts are gone until then.

    What was rendered of the same before is taken over by no run any more: a person has doubted it.

    Raises:
        CellNotFound: there is no such cell.
        CannotRenderAgain: a cell is under way, is rendered by hand, or its run is stopped; then nothing is rendered.
    """
    cells = list(session.scalars(select(Cell).where(Cell.id.in_(cell_ids)).order_by(Cell.id).with_for_update()))
    missing = set(cell_ids) - {cell.id for cell in cells}
    if missing:
        raise CellNotFound(min(missing))
    routes = {cell.id: routes_of(session, cell.run.build, [cell.condition])[cell.condition_id] for cell in cells}
    _refuse(cells, lambda cell: not cell.finished, "under way still")
    _refuse(cells, lambda cell: routes[cell.id] == BY_HAND, "rendered by hand; give the file back instead")
    _refuse(cells, lambda cell: cell.run.stopped_at is not None, "of a run that is stopped; resume it first")
    doubted = {cell.render.key for cell in cells if cell.render is not None and cell.render.key is not None}
    session.execute(update(Render).where(Render.key.in_(doubted)).values(key=None))
    for cell in cells:
        forget_verdict(cell)
        cell.state, cell.reused, cell.attempts = "waiting", False, 0
        cell.render, cell.reference, cell.analysis = None, None, None
    for run, queue in {(cell.run, routes[cell.id]) for cell in cells}:
        mine = [cell.id for cell in cells if cell.run is run and routes[cell.id] == queue]
        run.told_at = None  # it ends once more
        render_cells(session, queue, run.priority, mine)
    session.add(Event(at=now, who=who, what="rendered again", detail={"cells": [cell.id for cell in cells]}))
    if cells:
        tell_change(session, *{cell.run_id for cell in cells})
    return cells


def prepare_all(session: Session, run: Run) -> None:
    """A machine for each host that the run needs looks which of its cells must be rendered."""
    mine = select(Cell.condition_id).where(Cell.run_id == run.id)
    conditions = session.scalars(select(Condition).where(Condition.id.in_(mine)))
    queues = set(routes_of(session, session.get_one(Build, run.build_id), conditions).values())
    for queue in sorted(queues - {BY_HAND}):
        prepare_run(session, queue, run.priority, run.id)
    if BY_HAND in queues:
        check_kit(session, run.id)


def _locked(session: Session, run_id: int) -> Run:
    run = session.scalar(select(Run).where(Run.id == run_id).with_for_update())
    if run is None:
        raise RunNotFound(run_id)
    return run


def _refuse(cells: Sequence[Cell], unfit: Callable[[Cell], bool], reason: str) -> None:
    found = tuple(cell.id for cell in cells if unfit(cell))
    if found:
        raise CannotRenderAgain(found, reason)


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
        .options(
            joinedload(Cell.analysis),
            joinedload(Cell.render),
            joinedload(Cell.condition),
            joinedload(Cell.case).options(joinedload(Case.signal), joinedload(Case.setting)),
        )
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


def tell_change(session: Session, *run_ids: int) -> None:
    """Let pages that show runs know, once this transaction commits, that cells of theirs changed."""
    changed = func.unnest(array([str(run_id) for run_id in run_ids])).column_valued()
    session.execute(select(func.pg_notify(CHANNEL, changed)))


def judge_again(session: Session, cells: Sequence[Cell]) -> None:
    """Enqueue a new verdict for cells whose reference changed."""
    for cell in cells:
        cell.state = "analysing"
    analyse_cells(session, [cell.id for cell in cells])
    if cells:
        tell_change(session, *{cell.run_id for cell in cells})
