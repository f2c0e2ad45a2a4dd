"""Bodies of decisions and acts."""

from datetime import date, datetime
from typing import Literal

from pydantic import Field

from kind_echo.web.http.schemas import Body, RequestModel


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


class LatestActQuery(RequestModel):
    """On the cells of which run, or on which cell; on any unless one is named."""

    run_id: int | None = None
    cell_id: int | None = None


class LatestActBody(Body):
    """The last act that can be undone."""

    act: ActBody | None


class ActPath(RequestModel):
    """Which act."""

    act_id: int
