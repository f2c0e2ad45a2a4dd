"""Trends: a measure over the builds of a plan."""

from pathlib import Path
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.plans import PlanNotFound, all_plans, plan_numbered
from kind_echo.bench.reports import draw_trend
from kind_echo.bench.runs import find_run
from kind_echo.bench.sheets import (
    USUAL_MEASURES,
    Line,
    case_worth_opening,
    cases_over_builds,
    runs_of_plan,
    trend_of,
    worst_by_measure,
    worth_showing,
)
from kind_echo.core.registry.measures import MEASURES, find_measure
from kind_echo.core.verdicts.rules import INK_AT_LIMIT
from kind_echo.database.sessions import snapshot, transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.http.cache import AnswerCache
from kind_echo.web.http.files import PLOT_TYPES, sent_and_gone
from kind_echo.web.http.lasting import known_or_made
from kind_echo.web.http.schemas import ConditionBody, LimitBody
from kind_echo.web.runs.schemas import SiblingBody
from kind_echo.web.trends.schemas import (
    ByBuildBody,
    CaseBody,
    CaseQuery,
    LineBody,
    MeasureByBuildBody,
    PointBody,
    StepBody,
    TrendBody,
    TrendFilePath,
    TrendPlanPath,
    TrendQuery,
    WorstBody,
    WorstsBody,
)

api = APIBlueprint("time", __name__, url_prefix="/api")

_DRAWING = BoundedSemaphore(2)  # drawing takes a core for a while: others are to have their turn
_MOST_BUILDS = 12
_kept: AnswerCache[bytes] = AnswerCache(most_bytes=8 << 20, seconds=3600.0)


@api.get("/trends", responses={200: TrendBody})
def trend(query: TrendQuery) -> Response:
    """A measure over the builds of a plan."""
    if query.measure is not None:
        find_measure(query.measure)
    with transaction() as session:
        first = worth_showing(session) if query.plan_id is None else None
        plan = plan_numbered(session, query.plan_id or (first[0].id if first is not None else _any_plan(session)))
        measure = query.measure or (first[1] if first is not None else USUAL_MEASURES[0])
        cases = cases_over_builds(session, plan)
        case = (query.signal, query.setting)
        if case not in cases:
            case = case_worth_opening(session, plan, measure) or case
        found = trend_of(session, plan, measure, case)
        return answer(
            TrendBody(
                effect=found.plan.effect.name,
                plan=found.plan.name,
                plan_id=plan.id,
                measure=measure,
                builds=[SiblingBody(run_id=run.id, version=run.build.version) for run in found.runs],
                cases=[CaseBody(signal=signal, setting=setting) for signal, setting in cases],
                lines=[_line_body(line) for line in found.lines],
            )
        )


@api.get("/trends/<int:plan_id>/<string:measure>.<string:form>")
def trend_as_file(path: TrendFilePath, query: CaseQuery) -> Response:
    """A measure of one case over builds, a small plot for each condition, as a file."""
    with _DRAWING, temporary_folder() as folder, snapshot() as session:
        found = trend_of(session, plan_numbered(session, path.plan_id), path.measure, query.case)
        target = Path(folder) / f"trend-{path.measure}.{path.form}"
        draw_trend(target, found, find_measure(path.measure), query.case)
        return sent_and_gone(target, PLOT_TYPES[path.form], target.name)


@api.get("/trends/<int:plan_id>/measures", responses={200: ByBuildBody})
def by_build(path: TrendPlanPath) -> Response:
    """Every measure of a plan on its newest builds: the worst reading of each run."""
    with transaction() as session:
        plan = plan_numbered(session, path.plan_id)
        effect, name = plan.effect.name, plan.name
        runs = [(run.id, run.build.version) for run in runs_of_plan(session, plan)][-_MOST_BUILDS:]
    found = [WorstsBody.model_validate_json(_worst(run_id)).worst for run_id, _ in runs]
    rows = [
        MeasureByBuildBody(measure=key, builds=[one.get(key) for one in found])
        for key in MEASURES
        if any(key in one for one in found)
    ]
    return answer(
        ByBuildBody(
            plan_id=path.plan_id,
            effect=effect,
            plan=name,
            builds=[SiblingBody(run_id=run_id, version=version) for run_id, version in runs],
            measures=sorted(rows, key=_trouble, reverse=True),
            ink_at_limit=INK_AT_LIMIT,
        )
    )


def _trouble(row: MeasureByBuildBody) -> tuple[float, bool]:
    """What stands nearest to its limit, or beyond it, comes first; then what has one."""
    worst = [one for one in row.builds if one is not None]
    return max(one.ink for one in worst), any(one.limited for one in worst)


def _worst(run_id: int) -> bytes:
    """The worst readings of a run; read again only when the run has changed."""

    def make() -> bytes:
        with snapshot() as session:
            worst = worst_by_measure(session, find_run(session, run_id))
            bodies = {key: WorstBody.model_validate(one) for key, one in worst.items()}
            return WorstsBody(worst=bodies).model_dump_json().encode()

    return known_or_made(_kept, ("by build", run_id), run_id, make)


def _any_plan(session: Session) -> int:
    """A plan where none has a trend: there is something to choose from. Raises PlanNotFound where there is none."""
    plans = all_plans(session)
    if not plans:
        raise PlanNotFound("yet")
    return plans[0].id


def _line_body(line: Line) -> LineBody:
    return LineBody(
        signal=line.case.signal.name,
        setting=line.case.setting.name,
        condition=ConditionBody.model_validate(line.condition),
        limit=LimitBody(at_least=line.limit.at_least, at_most=line.limit.at_most) if line.limit is not None else None,
        points=[PointBody.model_validate(point) if point is not None else None for point in line.points],
        approved=line.approved,
        changes=[StepBody.model_validate(step) for step in line.changes],
    )
