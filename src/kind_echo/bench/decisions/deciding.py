"""Decisions: what a person said of cells, how far it reaches, and what still needs a person."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Literal

from sqlalchemy import and_, func, or_, select
from sqlalchemy.orm import Session, joinedload

from kind_echo.bench.decisions.references import approve
from kind_echo.bench.runs import CellNotFound, tell_change
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.database.locks import hold_references
from kind_echo.database.models import Act, Build, Case, Cell, Decision, Event, Reference, Run

Kind = Literal["reference", "accepted", "fault", "waived"]
"""Accepted and the new reference; accepted for this build alone; a fault; known, and waived until a day."""

_DONE = {"accepted": "differences accepted", "fault": "fault recorded", "waived": "waived"}


class CannotDecide(Conflict):
    """Cells are in no state to be decided so."""

    def __init__(self, cell_ids: tuple[int, ...], reason: str) -> None:
        self.cell_ids, self.reason = cell_ids, reason
        cells = "1 of the cells" if len(cell_ids) == 1 else f"{len(cell_ids)} of the cells"
        super().__init__(f"Nothing was decided: {cells} {reason}.")


class DecidedMeanwhile(Conflict):
    """Somebody else decided on the same cells after this person saw them."""

    def __init__(self, act: Act, cells: int) -> None:
        self.act_id, self.who, self.at, self.cells = act.id, act.who, act.at, cells
        said = f"{act.kind}: {act.why}" if act.why else act.kind
        these = "1 of these cells" if cells == 1 else f"{cells} of these cells"
        super().__init__(
            f"Nothing was decided: {act.who} has decided on {these} since you opened them ({said}). "
            "What you typed is kept; decide again to let yours stand."
        )


@dataclass(frozen=True)
class Standing:
    """The decision that a cell stands under, or the last one made of its case and condition before.

    Attributes:
        holds: the cell needs nobody any more; else it is only what was decided before.
        here: it was made on this very cell.
        version: the build that it was made on.
    """

    kind: str
    who: str
    at: datetime
    why: str
    ticket: str
    until: date | None
    act_id: int
    version: str
    holds: bool
    here: bool


def decide(
    session: Session,
    cell_ids: Sequence[int],
    kind: Kind,
    *,
    who: str,
    now: datetime,
    why: str = "",
    ticket: str = "",
    until: date | None = None,
    seen: int | None = None,
) -> Act:
    """Decide on cells in one act, to be undone as one.

    Args:
        ticket: text or address of what follows a fault or a waiver.
        until: last day of a waiver.
        seen: number of the last act that the person knew of; a later one on the same cells is a conflict.
    Raises:
        CellNotFound: there is no such cell.
        CannotDecide, CannotApprove: a cell is in no state for it; then nothing is decided.
        BadParameter: a waiver has no reason, no end, or one that is past.
        DecidedMeanwhile: somebody decided on one of the cells after `seen`.
    """
    hold_references(session, change=True)
    query = select(Cell).where(Cell.id.in_(cell_ids)).order_by(Cell.id).with_for_update(of=Cell)
    cells = list(session.scalars(query.options(joinedload(Cell.run), joinedload(Cell.case))))
    missing = set(cell_ids) - {cell.id for cell in cells}
    if missing:
        raise CellNotFound(min(missing))
    if seen is not None:
        _meet_others(session, cells, seen)
    if kind == "reference":
        return approve(session, cell_ids, who=who, why=why, now=now)
    _check(cells, kind, why, until, now)
    act = Act(kind=_DONE[kind], who=who, at=now, why=why)
    session.add(act)
    session.flush()
    for cell in cells:
        session.add(
            Decision(
                act_id=act.id,
                cell_id=cell.id,
                effect_id=cell.run.build.effect_id,
                fingerprint=cell.case.fingerprint,
                condition_id=cell.condition_id,
                kind=kind,
                ticket=ticket,
                until=until if kind == "waived" else None,
                covers=cell.broken,
            )
        )
    detail = {"act": act.id, "cells": [c.id for c in cells], "ticket": ticket, "until": str(until) if until else None}
    session.add(Event(at=now, who=who, what=act.kind, detail=detail))
    tell_change(session, *{cell.run_id for cell in cells})
    return act


def undecided_cells(session: Session, run: Run, today: date) -> list[int]:
    """Numbers of the cells of a run that need a person, in order: finished, not passed, and no decision holds."""
    held = {cell_id for cell_id, one in standings(session, run, today).items() if one.holds}
    query = select(Cell.id).where(Cell.run_id == run.id, Cell.asks_for_review)
    return [cell_id for cell_id in session.scalars(query.order_by(Cell.id)) if cell_id not in held]


def standings(session: Session, run: Run, today: date, cell_ids: Iterable[int] | None = None) -> dict[int, Standing]:
    """What was decided of the cells of a run, by cell; of some of them where their numbers are given.

    A decision on the cell itself holds, and a waiver of its case and condition in whatever run; both only while the
    cell breaks nothing that was not broken when it was decided, and a waiver only to its last day. What else was
    decided before of the same measures comes as one that does not hold.
    """
    effect_id = run.build.effect_id
    query = (
        select(Cell.id, Cell.broken, Cell.verdict, Decision, Build.version)
        .join(Case, Case.id == Cell.case_id)
        .join(
            Decision,
            and_(
                Decision.effect_id == effect_id,
                Decision.fingerprint == Case.fingerprint,
                Decision.condition_id == Cell.condition_id,
            ),
        )
        .join(Act, Act.id == Decision.act_id)
        .join(_decided_cell, _decided_cell.c.id == Decision.cell_id)
        .join(Run, Run.id == _decided_cell.c.run_id)
        .join(Build, Build.id == Run.build_id)
        .where(Cell.run_id == run.id, Act.undone_at.is_(None))
        .options(joinedload(Decision.act))
        .order_by(Decision.id)
    )
    if cell_ids is not None:
        query = query.where(Cell.id.in_(list(cell_ids)))
    found: dict[int, Standing] = {}
    for cell_id, broken, verdict, decision, version in session.execute(query):
        standing = _standing(decision, version, cell_id, broken, verdict, today)
        if not (standing.holds or standing.here) and set(broken) != set(decision.covers):
            continue  # something else was wrong then
        known = found.get(cell_id)
        if known is None or standing.holds or not known.holds:
            found[cell_id] = standing
    return found


_decided_cell = Cell.__table__.alias("decided_cell")


def undecided(session: Session, today: date, run_ids: Sequence[int]) -> dict[int, int]:
    """How many cells of some runs need a person: finished, not passed, and no decision holds. By the run's number."""
    holding = (
        select(Decision.id)
        .join(Act, Act.id == Decision.act_id)
        .where(
            Act.undone_at.is_(None),
            Decision.effect_id == Build.effect_id,
            Decision.fingerprint == Case.fingerprint,
            Decision.condition_id == Cell.condition_id,
            Decision.covers.contains(Cell.broken),
            or_(Decision.cell_id == Cell.id, Decision.kind == "waived"),
            or_(Decision.until.is_(None), Decision.until >= today),
        )
        .correlate(Cell, Case, Build)
        .exists()
    )
    query = (
        select(Cell.run_id, func.count())
        .join(Case, Case.id == Cell.case_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Build, Build.id == Run.build_id)
        .where(
            Cell.run_id.in_(run_ids),
            Cell.asks_for_review,
            or_(Cell.verdict == "Waiting", ~holding),
        )
        .group_by(Cell.run_id)
    )
    return {row[0]: row[1] for row in session.execute(query)}


def all_decisions(session: Session) -> list[tuple[Decision, Cell]]:
    """Every decision that was made, with the cell that it was made on, newest first; those taken back among them."""
    query = (
        select(Decision, Cell)
        .join(Cell, Cell.id == Decision.cell_id)
        .options(
            joinedload(Decision.act),
            joinedload(Cell.condition),
            joinedload(Cell.run).joinedload(Run.build).joinedload(Build.effect),
            joinedload(Cell.case).options(joinedload(Case.signal), joinedload(Case.setting)),
        )
        .order_by(Decision.id.desc())
    )
    return [(decision, cell) for decision, cell in session.execute(query)]


def last_act_number(session: Session) -> int:
    """Number of the last act of all, undone or not; 0 before the first."""
    return session.scalar(select(func.max(Act.id))) or 0


def _standing(decision: Decision, version: str, cell_id: int, broken: list[str], verdict: str, today: date) -> Standing:
    here = decision.cell_id == cell_id
    ended = decision.until is not None and decision.until < today
    covered = set(broken) <= set(decision.covers) and verdict not in ("Pass", "Waiting")
    reaches = here or decision.kind == "waived"
    act = decision.act
    return Standing(
        kind=decision.kind,
        who=act.who,
        at=act.at,
        why=act.why,
        ticket=decision.ticket,
        until=decision.until,
        act_id=act.id,
        version=version,
        holds=reaches and covered and not ended,
        here=here,
    )


def _check(cells: Sequence[Cell], kind: Kind, why: str, until: date | None, now: datetime) -> None:
    _refuse(cells, lambda cell: not cell.finished, "are not rendered and judged yet")
    _refuse(cells, lambda cell: cell.verdict == "Waiting", "have no reference; approve one first")
    if kind == "accepted":
        _refuse(cells, lambda cell: cell.unfit, "failed integrity, and cannot be accepted")
        _refuse(cells, lambda cell: cell.verdict == "No reading", "have no reading, and cannot be accepted")
    if kind in ("accepted", "waived"):
        _refuse(cells, lambda cell: cell.verdict == "Pass", "pass")
    if kind == "waived":
        if not why.strip():
            raise BadParameter("why", repr(why), "a reason: a waiver needs one")
        if until is None or until < now.date():
            raise BadParameter("until", until, "a day that is not past")


def _meet_others(session: Session, cells: Sequence[Cell], seen: int) -> None:
    """Raises DecidedMeanwhile when a later act decided on the place of one of the cells."""
    places = {(cell.run.build.effect_id, cell.case.fingerprint, cell.condition_id) for cell in cells}
    ids = {cell.id for cell in cells}
    decided = session.execute(
        select(Decision.act_id, Decision.cell_id).join(Act).where(
            Decision.act_id > seen, Decision.cell_id.in_(ids), Act.undone_at.is_(None)
        )
    ).all()  # fmt: skip
    approved = session.execute(
        select(Reference.act_id, Reference.effect_id, Reference.fingerprint, Reference.condition_id).where(
            Reference.act_id > seen, Reference.retired_at.is_(None)
        )
    ).all()
    later = [act for act, _ in decided] + [act for act, *place in approved if tuple(place) in places]
    if later:
        raise DecidedMeanwhile(session.get_one(Act, max(later)), len(later))


def _refuse(cells: Sequence[Cell], unfit: Callable[[Cell], bool], reason: str) -> None:
    found = tuple(cell.id for cell in cells if unfit(cell))
    if found:
        raise CannotDecide(found, reason)
