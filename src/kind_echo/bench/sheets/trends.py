"""Over time: any measure over the builds of an effect, one line a case and condition, with limits and references."""

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import limit_documents
from kind_echo.bench.documents import limit_from
from kind_echo.bench.runs import cases_of, conditions_of
from kind_echo.bench.sheets.sheet import siblings_of
from kind_echo.core.registry.measure import Family, Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.verdicts.over_builds import Step, Value, changes
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
        changes: where it changed by more than it does anyway, in order.
    """

    case: Case
    condition: Condition
    limit: Limit | None
    points: list[Point | None]
    approved: list[int]
    changes: list[Step]


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

    Of the plans that were run last on more than one build, the first of which a usual measure changed on its newest
    build; else one that changed on any, else one that has readings on two.
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
    changed: tuple[Plan, str] | None = None
    flat: tuple[Plan, str] | None = None
    for number in session.scalars(ran):
        plan = session.get_one(Plan, number)
        for measure in USUAL_MEASURES:
            trend = trend_of(session, plan, measure, _BUILDS_TRIED)
            last = _latest_change(trend)
            if last is not None and last == len(trend.runs) - 1:
                return plan, measure
            if changed is None and last is not None:
                changed = plan, measure
            if flat is None and any(len(_values(line)) > 1 for line in trend.lines):
                flat = plan, measure
    return changed or flat


def _latest_change(trend: "Trend") -> int | None:
    """The place of the newest build at which any line changed; None where none did."""
    return max((step.place for line in trend.lines for step in line.changes), default=None)


def _values(line: "Line") -> list[float]:
    return [point.value for point in line.points if point is not None and point.value is not None]


_PLANS_TRIED = 5
_BUILDS_TRIED = 8


def trend_of(
    session: Session, plan: Plan, measure: str, newest: int | None = None, case: tuple[str, str] | None = None
) -> Trend:
    """A measure over the builds of a plan; the lines are those of its newest run's revision.

    Args:
        newest: of how many builds, counted from the newest; None for all.
        case: names of the signal and the setting of the one case that is meant; None for all.
    """
    runs = runs_of_plan(session, plan)[-newest if newest is not None else 0 :]
    if not runs:
        return Trend(plan, [], [])
    last = max(runs, key=lambda run: run.id)
    cases = [one for one in cases_of(last) if case in (None, case_name(one))]
    by_run = [_points(session, run, measure, None if case is None else cases) for run in runs]
    approved = _approved(session, plan, runs)
    revision, conditions = last.revision, conditions_of(session, last)
    known = find_measure(measure)
    lines = []
    for one in cases:
        own = [[found.get((one.fingerprint, condition.id)) for found in by_run] for condition in conditions]
        values = [[None if point is None else Value(point.value) for point in points] for points in own]
        steps = changes(values, 0.5 * 10.0**-known.decimals, repeats=known.family not in _UNSTEADY)
        for condition, points, changed in zip(conditions, own, steps, strict=True):
            if not any(points):
                continue
            limit = limit_documents(one.limits, revision.condition_limits.get(str(condition.id), {})).get(measure)
            lines.append(Line(
                one, condition, limit_from(limit) if limit is not None else None, points,
                approved.get((one.fingerprint, condition.id), []), changed,
            ))  # fmt: skip
    return Trend(plan, runs, lines)


def case_name(case: Case) -> tuple[str, str]:
    """A case by the names of its signal and its setting."""
    return case.signal.name, case.setting.name


def cases_over_builds(session: Session, plan: Plan) -> list[tuple[str, str]]:
    """The cases of the newest run of a plan, by name, in its order."""
    runs = runs_of_plan(session, plan)
    return [] if not runs else [case_name(case) for case in cases_of(max(runs, key=lambda run: run.id))]


def case_worth_opening(trend: Trend) -> tuple[str, str] | None:
    """The case that changed last, else the first with figures on two builds, else the first; None without any."""
    if not trend.lines:
        return None
    last = max(trend.lines, key=lambda line: max((step.place for step in line.changes), default=-1))
    if last.changes:
        return case_name(last.case)
    return case_name(next((line for line in trend.lines if len(_values(line)) > 1), trend.lines[0]).case)


_UNSTEADY: tuple[Family, ...] = ("cost", "hosting")
"""Families of which one build gives other figures each time."""


def runs_of_plan(session: Session, plan: Plan) -> list[Run]:
    """The newest run of each build of a plan, in order of builds."""
    newest = session.scalar(
        select(Run)
        .join(PlanRevision, PlanRevision.id == Run.revision_id)
        .where(PlanRevision.plan_id == plan.id, Run.search_id.is_(None))
        .order_by(Run.id.desc())
        .limit(1)
    )
    return [] if newest is None else siblings_of(session, newest)


def _points(session: Session, run: Run, measure: str, cases: Sequence[Case] | None) -> dict[tuple[str, int], Point]:
    value = Cell.measured[measure].as_float()
    query = (
        select(Case.fingerprint, Cell.condition_id, Cell.id, value, Cell.verdict, Cell.why)
        .join(Case, Case.id == Cell.case_id)
        .where(Cell.run_id == run.id, Cell.finished)
    )
    if cases is not None:
        query = query.where(Case.fingerprint.in_([case.fingerprint for case in cases]))
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
