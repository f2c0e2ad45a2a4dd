"""Over time: any measure over the builds of an effect, one line a case and condition, with limits and references."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, func, or_, select
from sqlalchemy.orm import Session, aliased

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

    Of the plans that were run last on more than one build, the first of which a usual measure moved on its newest
    build; else the first of which one has readings on its two newest.
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
        earlier, later = runs_of_plan(session, plan)[-2:]
        counts = _compared(session, earlier, later)
        for measure in USUAL_MEASURES:
            if counts[f"{measure} moved"]:
                return plan, measure
            if flat is None and counts[f"{measure} read"]:
                flat = plan, measure
    return flat


_PLANS_TRIED = 5


def case_worth_opening(session: Session, plan: Plan, measure: str) -> tuple[str, str] | None:
    """The case that moved last, by the names of its signal and setting; else the first that was read; None without any.

    Looked for on the newest builds, back to where it is found.
    """
    runs = runs_of_plan(session, plan)
    if not runs:
        return None
    cases = cases_of(max(runs, key=lambda run: run.id))
    known = {case.fingerprint: case_name(case) for case in cases}
    for earlier, later in list(pairwise(runs))[::-1][:_STEPS_TRIED]:
        moved = set(session.scalars(_pairs(earlier, later, Case.fingerprint).where(_moved(measure))))
        found = next((name for fingerprint, name in known.items() if fingerprint in moved), None)
        if found is not None:
            return found
    value = Cell.measured[measure].as_float()
    query = select(Case.fingerprint).join(Cell, Cell.case_id == Case.id)
    read = set(session.scalars(query.where(Cell.run_id == runs[-1].id, value.is_not(None))))
    return next((name for fingerprint, name in known.items() if fingerprint in read), next(iter(known.values()), None))


_STEPS_TRIED = 4
_Then, _ThenCase = aliased(Cell), aliased(Case)


def _pairs(earlier: Run, later: Run, *what: Any) -> Select[Any]:
    """Something of the cells of two runs that are of one case under one condition."""
    return (
        select(*what)
        .select_from(Cell)
        .join(Case, Case.id == Cell.case_id)
        .join(_Then, and_(_Then.condition_id == Cell.condition_id, _Then.run_id == earlier.id))
        .join(_ThenCase, and_(_ThenCase.id == _Then.case_id, _ThenCase.fingerprint == Case.fingerprint))
        .where(Cell.run_id == later.id, Cell.finished, _Then.finished)
    )


def _moved(measure: str) -> ColumnElement[bool]:
    """Whether a figure of a pair is another one, by as much as it is told to, or is there on one side alone."""
    now, then = Cell.measured[measure].as_float(), _Then.measured[measure].as_float()
    return or_(func.abs(now - then) > _resolution(measure), now.is_(None) != then.is_(None))


def _compared(session: Session, earlier: Run, later: Run) -> dict[str, int]:
    """Of each usual measure how many cells of two runs moved, and how many were read on both."""
    counts = []
    for measure in USUAL_MEASURES:
        now, then = Cell.measured[measure].as_float(), _Then.measured[measure].as_float()
        counts.append(func.count().filter(_moved(measure)).label(f"{measure} moved"))
        counts.append(func.count().filter((now + then).is_not(None)).label(f"{measure} read"))
    return dict(session.execute(_pairs(earlier, later, *counts)).mappings().one())


def _resolution(measure: str) -> float:
    """Half of the last digit that is told."""
    return 0.5 * 10.0 ** -find_measure(measure).decimals


def trend_of(session: Session, plan: Plan, measure: str, case: tuple[str, str] | None = None) -> Trend:
    """A measure over the builds of a plan; the lines are those of its newest run's revision.

    Args:
        case: names of the signal and the setting of the one case that is meant; None for all.
    """
    runs = runs_of_plan(session, plan)
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
        steps = changes(values, _resolution(measure), repeats=known.family not in _UNSTEADY)
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
    """The cases of the newest run of a plan, by name, in its order; those that are named alike once."""
    runs = runs_of_plan(session, plan)
    return list(dict.fromkeys(map(case_name, cases_of(max(runs, key=lambda run: run.id))))) if runs else []


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
