"""Bodies of what a plan would miss."""

from pydantic import Field

from kind_echo.bench.plans import PlanDocument
from kind_echo.core.signals import SignalDocument
from kind_echo.web.http.schemas import Body, RequestModel


class AskSensitivityBody(Body):
    """A plan, kept or not, and by fault the size from which it is to be noticed; the usual ones unless given."""

    document: PlanDocument
    wanted: dict[str, float] | None = Field(default=None, max_length=100)


class FaultBody(Body):
    """A fault that is planted: sizes are between `least` and `most`; without a unit it is there or not."""

    key: str
    title: str
    unit: str
    least: float
    most: float


class FaultsBody(Body):
    """All faults that are planted, and the sizes that are wanted unless others are."""

    faults: list[FaultBody]
    wanted: dict[str, float]


class LeastBody(Body):
    """A fault in one case, or under one condition: the least size that is noticed, and how full its place is inked."""

    text: str
    by: str
    ink: float


class ColumnBody(Body):
    """A case, or a condition, with a place for each row."""

    name: str
    places: list[LeastBody]


class ShownInBody(Body):
    """A test signal in which a fault is noticed: what it is called, and what is asked of the generator."""

    title: str
    request: SignalDocument


class SensitivityRowBody(Body):
    """A fault over all cells: the least size that is noticed, where, and in how many cells it is not.

    `limit` is that of the residual, in dBFS, by which the size that is wanted would just be noticed.
    """

    fault: str
    title: str
    unit: str
    text: str
    by: str
    where: str
    passing: int
    wanted: str
    is_met: bool | None
    is_noticed: bool
    sentence: str
    shows_in: list[ShownInBody]
    limit: float | None


class SensitivityFailureBody(Body):
    """A cell of which nothing could be found, and why."""

    where: str
    why: str


class SensitivityBody(Body):
    """What a plan would miss, as far as it is known.

    `under_way` counts pieces of work that are not done, `without` cells for which no render is approved.
    """

    cells: int
    known: int
    under_way: int
    without: int
    failed: list[SensitivityFailureBody]
    summary: str
    rows: list[SensitivityRowBody]
    by_case: list[ColumnBody]
    by_condition: list[ColumnBody]
    cover: str
    spare: list[str]


class RunSensitivityBody(Body):
    """What a run would have noticed, in a line; empty while that is not known."""

    summary: str


class RunPath(RequestModel):
    """Which run."""

    run_id: int
