"""The steps of rendering that are the same wherever the renderer stands: beside the database, or far from it."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from kind_echo.bench.machines import is_renderers_own, routes_of
from kind_echo.bench.queue import MOST_ATTEMPTS, analyse_cells, render_cells
from kind_echo.bench.rendering.keeping import keepable
from kind_echo.bench.rendering.reuse import take_over
from kind_echo.bench.runs import (
    advance,
    find_cell,
    find_run,
    find_search,
    prepare_all,
    tell_change,
    waiting_cells,
)
from kind_echo.bench.verdicts import give_up_cell
from kind_echo.database.locks import hold_references
from kind_echo.database.models import Cell
from kind_echo.database.sessions import transaction
from kind_echo.renderers.contract import Renderer

_HANDED_ON_AFTER = timedelta(seconds=3)


@dataclass(frozen=True)
class Begun:
    """A render that has been begun: from which queue, and how many takes of it are wanted."""

    queue: str
    takes: int


def prepare(session: Session, run_id: int, queue: str, renderer: Renderer, now: datetime) -> None:
    """Take over what earlier runs rendered of exactly the same, and enqueue the rest; of one queue alone."""
    hold_references(session, change=False)
    run = find_run(session, run_id)
    if run.stopped_at is not None:
        return
    if is_renderers_own(queue):  # enqueued before queues told builds and hosts apart
        prepare_all(session, run)
        return
    cells = waiting_cells(session, run, queue)
    if not run.forced:
        cells = take_over(session, run, renderer, cells)
    # Looking takes a while, and somebody may have stopped the run meanwhile: from here on that waits for the jobs.
    session.refresh(run, with_for_update=True)
    if run.stopped_at is not None:
        return
    render_cells(session, queue, run.priority, [cell.id for cell in cells])
    if run.search_id is not None and not cells:
        advance(session, find_search(session, run.search_id), now)
    tell_change(session, run_id)


def begin_render(cell_id: int) -> Begun | None:
    """Say that a cell is being rendered; None where there is nothing to do. Raises what `routes_of` raises."""
    with transaction() as session:
        cell = find_cell(session, cell_id, lock=True)
        if cell.state not in ("waiting", "rendering"):
            return None
        if cell.run.stopped_at is not None:
            cell.state = "waiting"  # its worker may have died over it before the run was stopped
            return None
        cell.state, cell.attempts = "rendering", cell.attempts + 1
        tell_change(session, cell.run_id)
        if cell.attempts > MOST_ATTEMPTS:
            give_up_cell(cell, f"The worker died {MOST_ATTEMPTS} times while it rendered this cell")
            return None
        queue = routes_of(session, cell.run.build, [cell.condition])[cell.condition_id]
        return Begun(queue, cell.case.takes)


def forget_attempt(cell_id: int) -> None:
    """An attempt that ended because a disk was full or the database away says nothing of the cell."""
    with transaction() as session:
        cell = find_cell(session, cell_id, lock=True)
        cell.attempts = max(0, cell.attempts - 1)


def reassign_cell(session: Session, cell: Cell, now: datetime) -> None:
    """Give a cell back that this machine cannot render: its job goes to the queue of machines that can.

    A moment later, for by then this machine has looked again at what it has, and takes that queue no more.
    """
    queue = routes_of(session, cell.run.build, [cell.condition])[cell.condition_id]
    cell.state, cell.attempts = "waiting", max(0, cell.attempts - 1)
    render_cells(session, queue, cell.run.priority, [cell.id], at=now + _HANDED_ON_AFTER)
    tell_change(session, cell.run_id)


def to_analysis(session: Session, cell: Cell) -> None:
    """What has been rendered is to be judged."""
    cell.state = "analysing"
    analyse_cells(session, [cell.id])
    tell_change(session, cell.run_id)


def fail_cell(cell_id: int, reason: str, now: datetime, log: str = "") -> None:
    """A cell could not be rendered or judged, and says why."""
    with transaction() as session:
        fail_cell_in(session, cell_id, reason, now, log)


def fail_cell_in(session: Session, cell_id: int, reason: str, now: datetime, log: str = "") -> None:
    """As `fail_cell`, together with what else the session does."""
    cell = find_cell(session, cell_id, lock=True)
    give_up_cell(cell, reason)
    advance_search_of(session, cell, now)
    cell.log = keepable(log)
    tell_change(session, cell.run_id)


def fail_waiting(run_id: int, queue: str, reason: str) -> None:
    """None of the cells that a renderer has still to render can be rendered."""
    with transaction() as session:
        for cell in waiting_cells(session, find_run(session, run_id), queue):
            give_up_cell(cell, reason)
        tell_change(session, run_id)


def advance_search_of(session: Session, cell: Cell, now: datetime) -> None:
    """A search that waited for this cell goes on."""
    if cell.run.search_id is not None:
        session.flush()
        advance(session, find_search(session, cell.run.search_id), now)
