"""Bodies of decisions, acts and references."""

from datetime import date, datetime
from typing import Literal

from pydantic import BaseModel, Field

from kind_echo.web.http.schemas import Body, ConditionBody


class NewDecisionBody(Body):
    """What a person says of cells; `seen` is the last act that they knew of."""

    cell_ids: list[int] = Field(min_length=1, max_length=10_000)
    kind: Literal["reference", "accepted", "fault", "waived"]
    why: str = Field(default="", max_length=2000)
    ticket: str = Field(default="", max_length=400)
    until: date | None = None
    seen: int | None = None


class ActBody(Body):
    """Something done in one go, that can be undone in one go."""

    id: int
    kind: str
    who: str
    at: datetime
    why: str
    cells: int


class LatestActBody(Body):
    """The last act that can be undone."""

    act: ActBody | None


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


class ActPath(BaseModel):
    """Which act."""

    act_id: int


class ReferencePath(BaseModel):
    """Which reference."""

    reference_id: int
