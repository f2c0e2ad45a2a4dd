"""Bodies of trends."""

from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.web.http.schemas import Body, ConditionBody, LimitBody, RequestModel
from kind_echo.web.runs.schemas import SiblingBody


class PointBody(Body):
    """A build's reading; no value where there is none."""

    cell_id: int
    value: float | None
    verdict: VerdictName
    why: str


class LineBody(Body):
    """One case under one condition; a point for each build, null where it was not run."""

    signal: str
    setting: str
    condition: ConditionBody
    limit: LimitBody | None
    points: list[PointBody | None]
    approved: list[int]


class TrendBody(Body):
    """A measure over the builds of a plan."""

    effect: str
    plan: str
    plan_id: int
    measure: str
    builds: list[SiblingBody]
    lines: list[LineBody]


class TrendQuery(RequestModel):
    """Which plan, and which measure; where one is not named, one that has something to draw."""

    plan_id: int | None = None
    measure: str | None = None
