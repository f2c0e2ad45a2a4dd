"""Trends: a measure over the builds of a plan."""

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.plans import PlanNotFound, all_plans, plan_numbered
from kind_echo.bench.sheets import USUAL_MEASURES, Line, trend_of, worth_showing
from kind_echo.core.registry.measures import find_measure
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import ConditionBody, LimitBody
from kind_echo.web.runs.schemas import SiblingBody
from kind_echo.web.trends.schemas import LineBody, PointBody, TrendBody, TrendQuery

api = APIBlueprint("time", __name__, url_prefix="/api")


@api.get("/trends", responses={200: TrendBody})
def trend(query: TrendQuery) -> Response:
    """A measure over the builds of a plan."""
    if query.measure is not None:
        find_measure(query.measure)
    with transaction() as session:
        first = worth_showing(session) if query.plan_id is None else None
        plan = plan_numbered(session, query.plan_id or (first[0].id if first is not None else _any_plan(session)))
        measure = query.measure or (first[1] if first is not None else USUAL_MEASURES[0])
        found = trend_of(session, plan, measure)
        return answer(
            TrendBody(
                effect=found.plan.effect.name,
                plan=found.plan.name,
                plan_id=plan.id,
                measure=measure,
                builds=[SiblingBody(run_id=run.id, version=run.build.version) for run in found.runs],
                lines=[_line_body(line) for line in found.lines],
            )
        )


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
    )
