"""Trends: a measure over the builds of a plan."""

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.plans import plan_numbered
from kind_echo.bench.sheets import Line, trend_of
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
    find_measure(query.measure)
    with transaction() as session:
        found = trend_of(session, plan_numbered(session, query.plan_id), query.measure)
        return answer(
            TrendBody(
                effect=found.plan.effect.name,
                plan=found.plan.name,
                builds=[SiblingBody(run_id=run.id, version=run.build.version) for run in found.runs],
                lines=[_line_body(line) for line in found.lines],
            )
        )


def _line_body(line: Line) -> LineBody:
    return LineBody(
        signal=line.case.signal.name,
        setting=line.case.setting.name,
        condition=ConditionBody.model_validate(line.condition),
        limit=LimitBody(at_least=line.limit.at_least, at_most=line.limit.at_most) if line.limit is not None else None,
        points=[PointBody.model_validate(point) if point is not None else None for point in line.points],
        approved=line.approved,
    )
