"""References by build: how many an effect has from each, and the approval of all that a build rendered."""

from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from sqlalchemy import Integer, and_, case, func, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session, aliased

from kind_echo.bench.decisions.references import approve
from kind_echo.bench.machines import BuildNotFound, EffectNotFound
from kind_echo.core.registry.errors import BadParameter, Conflict
from kind_echo.database.locks import hold_references
from kind_echo.database.models import Act, Build, Case, Cell, Effect, Reference, Render, Run
from kind_echo.wording.figures import counted

Approvable = Literal["Pass", "Changed", "Fail", "Waiting"]
"""The verdicts under which a render can become a reference."""

MOST_AT_ONCE = 20_000
"""As many cells as a plan can have."""


@dataclass(frozen=True)
class ReferencesOfBuild:
    """How many references came from a build: those that are current, and those that were replaced or taken back."""

    build_id: int
    version: str
    current: int
    earlier: int


@dataclass(frozen=True)
class RendersOfBuild:
    """What a build rendered, the newest of every case and condition, sorted by whether it can become a reference.

    Attributes:
        cell_ids: by verdict, the cells that can be approved.
        current: how many are the current reference to the sample already.
        unfit: how many failed integrity.
        without_reading: how many have no reading.
    """

    build: Build
    cell_ids: dict[Approvable, list[int]]
    current: int
    unfit: int
    without_reading: int


class RendersChanged(Conflict):
    """Between looking and approving, other cells of the build came to be what would be approved."""

    def __init__(self, expected: int, found: int) -> None:
        self.expected, self.found = expected, found
        super().__init__(
            f"Nothing was approved: you were told of {counted(expected, 'cell')}, and by now it would be {found}."
        )


def references_by_build(session: Session, effect_id: int) -> list[ReferencesOfBuild]:
    """The builds that references of an effect came from, with how many, in the order of the builds.

    Raises:
        EffectNotFound: there is no such effect.
    """
    if session.get(Effect, effect_id) is None:
        raise EffectNotFound(effect_id)
    current = func.sum(case((Reference.retired_at.is_(None), 1), else_=0), type_=Integer)
    query = (
        select(Build.id, Build.version, current, func.count())
        .select_from(Reference)
        .join(Cell, Cell.id == Reference.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Build, Build.id == Run.build_id)
        .where(Reference.effect_id == effect_id)
        .group_by(Build.id)
        .order_by(Build.position)
    )
    return [
        ReferencesOfBuild(build_id, version, held, every - held)
        for build_id, version, held, every in session.execute(query)
    ]


def renders_of_build(session: Session, build_id: int) -> RendersOfBuild:
    """What a build rendered, sorted by whether it can become a reference.

    Raises:
        BuildNotFound: there is no such build.
    """
    build = session.get(Build, build_id)
    if build is None:
        raise BuildNotFound(build_id)
    now_held = aliased(Render)
    query = (
        select(Cell.id, Cell.verdict, Cell.unfit, now_held.content_sha256 == Render.content_sha256)
        .ext(distinct_on(Case.fingerprint, Cell.condition_id))
        .join(Case, Case.id == Cell.case_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Render, Render.id == Cell.render_id)
        .outerjoin(
            Reference,
            and_(
                Reference.effect_id == build.effect_id,
                Reference.fingerprint == Case.fingerprint,
                Reference.condition_id == Cell.condition_id,
                Reference.retired_at.is_(None),
            ),
        )
        .outerjoin(now_held, now_held.id == Reference.render_id)
        .where(Run.build_id == build_id, Cell.state == "done")
        .order_by(Case.fingerprint, Cell.condition_id, Cell.id.desc())
    )
    cell_ids: dict[Approvable, list[int]] = {"Pass": [], "Changed": [], "Fail": [], "Waiting": []}
    left_out: Counter[str] = Counter()
    for cell_id, verdict, unfit, same in session.execute(query):
        if unfit:
            left_out["unfit"] += 1
        elif verdict not in cell_ids:
            left_out["without reading"] += 1
        elif same:
            left_out["current"] += 1
        else:
            cell_ids[verdict].append(cell_id)
    return RendersOfBuild(build, cell_ids, left_out["current"], left_out["unfit"], left_out["without reading"])


def approve_build(
    session: Session,
    build_id: int,
    verdicts: Collection[Approvable],
    *,
    expected: int,
    who: str,
    why: str,
    now: datetime,
) -> Act:
    """Make the renders of a build that have one of some verdicts the references of their cases, in one act.

    Args:
        expected: how many cells the person was told of.
    Raises:
        BuildNotFound: there is no such build.
        BadParameter: nothing is to be approved, or more than can be at once.
        RendersChanged: it would be other than `expected` by now.
    """
    hold_references(session, change=True)  # of two people who approve at once the second sees what the first has made
    found = renders_of_build(session, build_id).cell_ids
    cells = sorted(cell_id for verdict in set(verdicts) for cell_id in found[verdict])
    if len(cells) != expected:
        raise RendersChanged(expected, len(cells))
    if not cells:
        raise BadParameter("verdicts", ", ".join(verdicts), "verdicts that some render of the build has")
    if len(cells) > MOST_AT_ONCE:
        raise BadParameter("verdicts", len(cells), f"at most {MOST_AT_ONCE} cells at once; approve them run by run")
    return approve(session, cells, who=who, why=why, now=now)
