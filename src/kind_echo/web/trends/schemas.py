"""Bodies of trends."""

from pydantic import Field

from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.web.http.files import PlotForm
from kind_echo.web.http.schemas import Body, ConditionBody, LimitBody, RequestModel
from kind_echo.web.runs.schemas import SiblingBody


class PointBody(Body):
    """A build's reading; no value where there is none."""

    cell_id: int
    value: float | None
    verdict: VerdictName
    why: str


class StepBody(Body):
    """A change at the build `place`, from the build `before`; `by` is null where a figure appeared or vanished."""

    before: int
    place: int
    by: float | None


class LineBody(Body):
    """One case under one condition; a point for each build, null where it was not run.

    `changes` are where the figure moved by more than it does anyway.
    """

    signal: str
    setting: str
    condition: ConditionBody
    limit: LimitBody | None
    points: list[PointBody | None]
    approved: list[int]
    changes: list[StepBody]


class CaseBody(Body):
    """A case by the names of its signal and its setting."""

    signal: str
    setting: str


class TrendBody(Body):
    """A measure over the builds of a plan: the lines of one of its cases, and what cases there are."""

    effect: str
    plan: str
    plan_id: int
    measure: str
    builds: list[SiblingBody]
    cases: list[CaseBody]
    lines: list[LineBody]


class WorstBody(Body):
    """A measure in a run: its worst reading, which cell has it, and how many break their limits."""

    value: float
    cell_id: int
    ink: float
    readings: int
    limited: int
    broken: int


class WorstsBody(Body):
    """Of each measure of a run the worst reading, by key."""

    worst: dict[str, WorstBody]


class MeasureByBuildBody(Body):
    """A measure over builds; null where a run has no reading of it."""

    measure: str
    builds: list[WorstBody | None]


class ByBuildBody(Body):
    """Every measure of a plan by build, the newest builds, oldest first; `ink_at_limit` is where a tick stands."""

    plan_id: int
    effect: str
    plan: str
    builds: list[SiblingBody]
    measures: list[MeasureByBuildBody]
    ink_at_limit: float


class TrendFilePath(RequestModel):
    """A plan and a measure, and the form of the file."""

    plan_id: int
    measure: str
    form: PlotForm


class CaseQuery(Body):
    """Which case: the names of its signal and of its setting."""

    signal: str = Field(max_length=400)
    setting: str = Field(max_length=400)

    @property
    def case(self) -> tuple[str, str]:
        """Both."""
        return self.signal, self.setting


class TrendPlanPath(RequestModel):
    """Which plan."""

    plan_id: int


class TrendQuery(RequestModel):
    """Which plan, measure and case; where one is not named, one that has something to draw."""

    plan_id: int | None = None
    measure: str | None = None
    signal: str = Field("", max_length=400)
    setting: str = Field("", max_length=400)
