"""References: which render of a case under a condition is the approved one, since when, and what it replaced."""

from collections.abc import Callable, Sequence
from datetime import datetime

from sqlalchemy import and_, exists, func, or_, select, tuple_, update
from sqlalchemy.orm import Session, joinedload

from kind_echo.bench.runs import CellNotFound, judge_again, tell_change
from kind_echo.core.registry.errors import Conflict, NotFound
from kind_echo.database.locks import hold_references
from kind_echo.database.models import (
    Act,
    Build,
    Case,
    Cell,
    Condition,
    Decision,
    Event,
    Reference,
    Render,
    Run,
)

_APPROVE = "references approved"


class CannotApprove(Conflict):
    """Cells are in no state to become references."""

    def __init__(self, cell_ids: tuple[int, ...], reason: str) -> None:
        self.cell_ids, self.reason = cell_ids, reason
        cells = "1 of the cells" if len(cell_ids) == 1 else f"{len(cell_ids)} of the cells"
        super().__init__(f"Nothing was approved: {cells} {reason}.")


class ActNotFound(NotFound):
    """An act is asked for that is not there."""

    def __init__(self, act_id: int) -> None:
        self.act_id = act_id
        super().__init__(f"There is no act {act_id} to undo.")


class CannotUndo(Conflict):
    """An act was undone already, or something later stands on it."""

    def __init__(self, act_id: int, reason: str) -> None:
        self.act_id, self.reason = act_id, reason
        super().__init__(f"It was not undone: {reason}.")


class ReferenceNotFound(NotFound):
    """A reference is asked for that is not there."""

    def __init__(self, reference_id: int) -> None:
        self.reference_id = reference_id
        super().__init__(f"There is no reference {reference_id}.")


def current_reference(session: Session, cell: Cell) -> Reference | None:
    """The approved render for a cell's case and condition, whatever plan revision it was approved in."""
    return session.scalar(
        select(Reference).where(
            Reference.effect_id == cell.run.build.effect_id,
            Reference.fingerprint == cell.case.fingerprint,
            Reference.condition_id == cell.condition_id,
            Reference.retired_at.is_(None),
        )
    )


def version_of(session: Session, reference: Reference) -> str:
    """The version of the build whose render the reference is."""
    return session.get_one(Cell, reference.cell_id).run.build.version


def current_references_of(session: Session, effect_id: int) -> dict[tuple[str, int], Reference]:
    """All current references of an effect by the fingerprint of their case and the number of their condition."""
    query = (
        select(Reference)
        .where(Reference.effect_id == effect_id, Reference.retired_at.is_(None))
        .options(joinedload(Reference.render).joinedload(Render.content))
    )
    return {(r.fingerprint, r.condition_id): r for r in session.scalars(query)}


def approve(session: Session, cell_ids: Sequence[int], *, who: str, why: str, now: datetime) -> Act:
    """Make the renders of cells the references of their cases, in one act and a few statements; former ones are kept.

    Raises:
        CellNotFound: there is no such cell.
        CannotApprove: a cell is not rendered yet, has no reading or failed integrity; then nothing is approved.
    """
    hold_references(session, change=True)
    # In order of their numbers, so that two people who approve at once wait for each other instead of blocking.
    query = select(Cell).where(Cell.id.in_(cell_ids)).order_by(Cell.id).with_for_update(of=Cell)
    cells = list(session.scalars(query.options(joinedload(Cell.run).joinedload(Run.build), joinedload(Cell.case))))
    missing = set(cell_ids) - {cell.id for cell in cells}
    if missing:
        raise CellNotFound(min(missing))
    _refuse(cells, lambda cell: cell.state != "done", "are not rendered and judged yet")
    _refuse(cells, lambda cell: cell.unfit, "failed integrity, and what is not fit to be measured is no reference")
    _refuse(cells, lambda cell: cell.verdict == "No reading", "have no reading")
    act = Act(kind=_APPROVE, who=who, at=now, why=why)
    session.add(act)
    session.flush()
    # Of two cells of one place the later is the reference.
    chosen = {_place(cell): cell for cell in cells}
    former = _current_at(session, [cell.id for cell in chosen.values()])
    session.execute(update(Reference).where(Reference.id.in_(former.values())).values(retired_at=now))
    session.add_all(
        Reference(
            effect_id=effect_id,
            fingerprint=fingerprint,
            condition_id=condition_id,
            cell_id=cell.id,
            render_id=cell.render_id,
            act_id=act.id,
            replaces_id=former.get((effect_id, fingerprint, condition_id)),
        )
        for (effect_id, fingerprint, condition_id), cell in chosen.items()
    )
    session.flush()
    judge_again(session, _affected(session, [cell.id for cell in chosen.values()]))
    session.add(Event(at=now, who=who, what=_APPROVE, detail={"act": act.id, "cells": [c.id for c in cells]}))
    return act


def touches_references(session: Session, act_id: int) -> bool:
    """Whether an act made references."""
    return session.scalar(select(Reference.id).where(Reference.act_id == act_id).limit(1)) is not None


def undo(session: Session, act_id: int, *, who: str, now: datetime) -> Act:
    """Take an act back as one: its decisions are none, and the references that it replaced are current again.

    Raises:
        ActNotFound, CannotUndo: there is no such act, it is undone already, or a later reference stands on it.
    """
    hold_references(session, change=True)
    act = session.scalar(select(Act).where(Act.id == act_id).with_for_update())
    if act is None:
        raise ActNotFound(act_id)
    if act.undone_at is not None:
        raise CannotUndo(act_id, f"{act.undone_by} has undone it already")
    made = list(session.scalars(select(Reference).where(Reference.act_id == act_id).order_by(Reference.id)))
    replaced = sum(reference.retired_at is not None for reference in made)
    if replaced:
        raise CannotUndo(act_id, f"{replaced} of its references have been replaced since; undo that first")
    session.execute(update(Reference).where(Reference.act_id == act_id).values(retired_at=now))
    before = [reference.replaces_id for reference in made if reference.replaces_id is not None]
    session.execute(update(Reference).where(Reference.id.in_(before)).values(retired_at=None))
    judged = select(Cell).where(Cell.reference_id.in_([reference.id for reference in made])).order_by(Cell.id)
    judge_again(session, list(session.scalars(judged)))
    act.undone_at, act.undone_by = now, who
    decided = select(Decision.cell_id).where(Decision.act_id == act_id)
    changed = set(session.scalars(select(Cell.run_id).where(Cell.id.in_(decided))))
    if changed:
        tell_change(session, *changed)
    session.add(Event(at=now, who=who, what="undone", detail={"act": act.id, "kind": act.kind}))
    return act


_WITH_NAMES = (
    joinedload(Reference.act),
    joinedload(Reference.condition),
    joinedload(Reference.render).load_only(Render.content_sha256),
    joinedload(Cell.case).options(joinedload(Case.signal), joinedload(Case.setting)),
    joinedload(Cell.run).joinedload(Run.build).joinedload(Build.effect),
)


def current_references(session: Session) -> list[tuple[Reference, Cell]]:
    """All current references with the cell that each came from, by effect, case and condition."""
    query = (
        select(Reference, Cell)
        .join(Cell, Cell.id == Reference.cell_id)
        .join(Case, Case.id == Cell.case_id)
        .join(Condition, Condition.id == Reference.condition_id)
        .where(Reference.retired_at.is_(None))
        .order_by(
            Reference.effect_id,
            Case.signal_id,
            Case.setting_id,
            Condition.host,
            Condition.host_version,
            Condition.mode.desc(),
            Condition.rate,
            Reference.id,
        )
        .options(*_WITH_NAMES)
    )
    return [(reference, cell) for reference, cell in session.execute(query)]


def history(session: Session, reference_id: int) -> list[tuple[Reference, Cell]]:
    """All references that the case and condition of one ever had, newest first; undone ones too."""
    one = session.get(Reference, reference_id)
    if one is None:
        raise ReferenceNotFound(reference_id)
    query = (
        select(Reference, Cell)
        .join(Cell, Cell.id == Reference.cell_id)
        .where(
            Reference.effect_id == one.effect_id,
            Reference.fingerprint == one.fingerprint,
            Reference.condition_id == one.condition_id,
        )
        .order_by(Reference.id.desc())
        .options(*_WITH_NAMES)
    )
    return [(reference, cell) for reference, cell in session.execute(query)]


def latest_act(session: Session, *, run_id: int | None = None, cell_id: int | None = None) -> Act | None:
    """The last act that is not undone: of those that decided on cells of a run, or on a cell, where one is named."""
    query = select(Act).where(Act.undone_at.is_(None)).order_by(Act.id.desc()).limit(1)
    if run_id is not None or cell_id is not None:
        cells = select(Cell.id).where(Cell.run_id == run_id if cell_id is None else Cell.id == cell_id)
        decided = exists().where(Decision.act_id == Act.id, Decision.cell_id.in_(cells))
        approved = exists().where(Reference.act_id == Act.id, Reference.cell_id.in_(cells))
        query = query.where(or_(decided, approved))
    return session.scalar(query)


_Place = tuple[int, str, int]
"""What a reference is of: effect, fingerprint of the case, condition."""


def _place(cell: Cell) -> _Place:
    return cell.run.build.effect_id, cell.case.fingerprint, cell.condition_id


def _current_at(session: Session, cell_ids: Sequence[int]) -> dict[_Place, int]:
    """Numbers of the current references of the places of cells."""
    query = (
        select(Reference.id, Reference.effect_id, Reference.fingerprint, Reference.condition_id)
        .join(Cell, Cell.condition_id == Reference.condition_id)
        .join(Case, and_(Case.id == Cell.case_id, Case.fingerprint == Reference.fingerprint))
        .join(Run, Run.id == Cell.run_id)
        .join(Build, and_(Build.id == Run.build_id, Build.effect_id == Reference.effect_id))
        .where(Cell.id.in_(cell_ids), Reference.retired_at.is_(None))
    )
    return {(effect, case, condition): number for number, effect, case, condition in session.execute(query)}


def _affected(session: Session, cell_ids: Sequence[int]) -> list[Cell]:
    """The cells themselves, and those of any run that waited for a reference of their cases and conditions."""
    place = tuple_(Build.effect_id, Case.fingerprint, Cell.condition_id)
    chosen = (
        select(Build.effect_id, Case.fingerprint, Cell.condition_id)
        .select_from(Cell)
        .join(Case, Case.id == Cell.case_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Build, Build.id == Run.build_id)
        .where(Cell.id.in_(cell_ids))
        .correlate(None)
    )
    waited = (
        select(Cell)
        .join(Case, Case.id == Cell.case_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Build, Build.id == Run.build_id)
        .where(
            place.in_(chosen),
            Cell.state == "done",
            Cell.unfit.is_(False),
            or_(Cell.id.in_(cell_ids), Cell.reference_id.is_(None)),
        )
        .order_by(Cell.id)
    )
    return list(session.scalars(waited))


def _refuse(cells: Sequence[Cell], unfit: Callable[[Cell], bool], reason: str) -> None:
    found = tuple(cell.id for cell in cells if unfit(cell))
    if found:
        raise CannotApprove(found, reason)


def count_made(session: Session, act_id: int) -> int:
    """How many cells an act decided on, or made references."""
    made = session.scalar(select(func.count()).where(Reference.act_id == act_id)) or 0
    return made or session.scalar(select(func.count()).where(Decision.act_id == act_id)) or 0
