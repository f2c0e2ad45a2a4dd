"""Over time: any measure over the builds of an effect, one line a case and condition, with limits and references."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import limit_documents
from kind_echo.bench.documents import limit_from
from kind_echo.bench.runs import cases_of, conditions_of
from kind_echo.bench.sheets.sheet import siblings_of
from kind_echo.core.registry.measure import Limit
from kind_echo.database.models import Case, Cell, Condition, Plan, PlanRevision, Reference, Run


@dataclass(frozen=True)
class Point:
    """A build's reading; no value where there is none."""

    cell_id: int
    value: float | None
    verdict: str
    why: str


@dataclass(frozen=True)
class Line:
    """One case under one condition: a point for each build, None where it was not run.

    Attributes:
        approved: places of builds whose render became the reference, in order.
    """

    case: Case
    condition: Condition
    limit: Limit | None
    points: list[Point | None]
    approved: list[int]


@dataclass(frozen=True)
class Trend:
    """All lines of a plan for a measure; its builds oldest first, by the newest run of each."""

    plan: Plan
    runs: list[Run]
    lines: list[Line]


def trend_of(session: Session, plan: Plan, measure: str) -> Trend:
    """A measure over the builds of a plan; the lines are those of its newest run's revision."""
    newest = session.scalar(
        select(Run)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .where(PlanRevision.plan_id == plan.id, Run.search_id.is_(None))
        .order_by(Run.id.desc())
        .limit(1)
    )
    if newest is None:
        return Trend(plan, [], [])
    runs = siblings_of(session, newest)
    by_run = [_points(session, run, measure) for run in runs]
    approved = _approved(session, plan, runs)
    revision = newest.revision
    lines = []
    for case in cases_of(newest):
        for condition in conditions_of(session, newest):
            points = [found.get((case.fingerprint, condition.id)) for found in by_run]
            if not any(points):
                continue
            own = revision.condition_limits.get(str(condition.id), {})
            limit = limit_documents(case.limits, own).get(measure)
            lines.append(Line(
                case, condition, limit_from(limit) if limit is not None else None, points,
                approved.get((case.fingerprint, condition.id), []),
            ))  # fmt: skip
    return Trend(plan, runs, lines)


def _points(session: Session, run: Run, measure: str) -> dict[tuple[str, int], Point]:
    value = Cell.measured[measure].as_float()
    query = (
        select(Case.fingerprint, Cell.condition_id, Cell.id, value, Cell.verdict, Cell.why)
        .join(Case, Case.id == Cell.case_id)
        .where(Cell.run_id == run.id, Cell.state.in_(("done", "failed")))
    )
    return {(f, c): Point(number, found, verdict, why) for f, c, number, found, verdict, why in session.execute(query)}


def _approved(session: Session, plan: Plan, runs: Sequence[Run]) -> dict[tuple[str, int], list[int]]:
    """At which builds references were made that were not taken back at once."""
    place = {run.build_id: i for i, run in enumerate(runs)}
    query = (
        select(Reference.fingerprint, Reference.condition_id, func.array_agg(Run.build_id.distinct()))
        .join(Cell, Cell.id == Reference.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Reference.act)
        .where(Reference.effect_id == plan.effect_id, Reference.act.has(undone_at=None))
        .group_by(Reference.fingerprint, Reference.condition_id)
    )
    return {
        (fingerprint, condition): sorted(place[build] for build in builds if build in place)
        for fingerprint, condition, builds in session.execute(query)
    }
