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


USUAL_MEASURES = (
    "residual_rms", "delay", "gain", "fundamental_level", "thd", "loudness_integrated", "true_peak", "rms",
)  # fmt: skip
"""Of which a trend is looked at first: the first of them that has something to show."""


def worth_showing(session: Session) -> tuple[Plan, str] | None:
    """A plan and a measure whose trend has something to draw; None where nothing was run on two builds.

    The plan that was run last on more than one build; of the usual measures the first that changed from build to build,
    else the first that has readings on two.
    """
    ran = (
        select(PlanRevision.plan_id)
        .join(Run, Run.revision_id == PlanRevision.id)
        .join(Plan, Plan.id == PlanRevision.plan_id)
        .where(Run.search_id.is_(None), Run.archived_at.is_(None), Plan.archived_at.is_(None))
        .group_by(PlanRevision.plan_id)
        .having(func.count(Run.build_id.distinct()) > 1)
        .order_by(func.max(Run.id).desc())
        .limit(_PLANS_TRIED)
    )
    flat: tuple[Plan, str] | None = None
    for number in session.scalars(ran):
        plan = session.get_one(Plan, number)
        for measure in USUAL_MEASURES:
            values = [_values(line) for line in trend_of(session, plan, measure).lines]
            if any(len(set(found)) > 1 for found in values):
                return plan, measure
            if flat is None and any(len(found) > 1 for found in values):
                flat = plan, measure
    return flat


def _values(line: "Line") -> list[float]:
    return [point.value for point in line.points if point is not None and point.value is not None]


_PLANS_TRIED = 5


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
        .where(Cell.run_id == run.id, Cell.finished)
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
