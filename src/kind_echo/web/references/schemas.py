"""Bodies of references."""

from datetime import datetime

from pydantic import Field

from kind_echo.bench.decisions import Approvable
from kind_echo.web.http.schemas import Body, ConditionBody, RequestModel


class ReferenceBody(Body):
    """A reference: what it is of, where it came from, who approved it and when it was retired."""

    id: int
    effect: str
    signal: str
    setting: str
    condition: ConditionBody
    version: str
    run_id: int
    cell_id: int
    approved_by: str
    approved_at: datetime
    why: str
    replaces_id: int | None
    retired_at: datetime | None
    undone: bool
    sha256: str


class ReferencesBody(Body):
    """References, in order."""

    references: list[ReferenceBody]


class ReferencesOfBuildBody(Body):
    """How many references came from a build: current ones, and those that were replaced or taken back."""

    build_id: int
    version: str
    current: int
    earlier: int


class ReferencesByBuildBody(Body):
    """The builds that references of an effect came from, oldest first."""

    builds: list[ReferencesOfBuildBody]


class RendersOfBuildBody(Body):
    """What a build rendered, the newest of every case and condition: how many can become references, by verdict.

    Beside them those that are the current reference already, that failed integrity, and that have no reading.
    """

    version: str
    approvable: dict[Approvable, int]
    current: int
    unfit: int
    without_reading: int


class ApprovedBuildBody(Body):
    """Which renders of a build are to be references, by verdict, and how many these were when they were looked at."""

    verdicts: list[Approvable] = Field(min_length=1, max_length=4)
    expected: int = Field(ge=1)
    why: str = Field(default="", max_length=2000)


class ReferencePath(RequestModel):
    """Which reference."""

    reference_id: int
