"""Bodies of trends, and of searches for the first build that differs."""

from datetime import datetime

from pydantic import BaseModel

from kind_echo.web.http.schemas import Body, CellState, ConditionBody, LimitBody, VerdictName
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
    builds: list[SiblingBody]
    lines: list[LineBody]


class TrendQuery(BaseModel):
    """Which plan, and which measure."""

    plan_id: int
    measure: str


class NewSearchBody(Body):
    """From which cell the first build that differs is searched."""

    cell_id: int


class LookedBody(Body):
    """A build of a search; `passes` is null while that is not known."""

    version: str
    note: str
    cell_id: int | None
    state: CellState | None
    verdict: VerdictName | None
    why: str
    passes: bool | None


class SearchBody(Body):
    """How a search stands: its builds, oldest first, and the place of the first that differs once it is found."""

    id: int
    effect: str
    signal: str
    setting: str
    condition: ConditionBody
    started_by: str
    started_at: datetime
    builds: list[LookedBody]
    first: int | None


class SearchPath(BaseModel):
    """Which search."""

    search_id: int
