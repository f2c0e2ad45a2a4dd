"""The shape of what is asked and said of render kits."""

from datetime import datetime
from typing import Annotated

from pydantic import Field

from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.database.states import CellState, KitFileState
from kind_echo.web.http.schemas import Body, ConditionBody, FileName, RequestModel


class KitPlaceBody(Body):
    """One render that is to come back, and the file that was taken for it."""

    cell_id: int
    take: int
    takes: int
    signal: str
    setting: str
    condition: ConditionBody
    returned_as: str
    state: CellState
    verdict: VerdictName
    why: str
    file_id: int | None


class KitFileBody(Body):
    """A file that came back: what it was taken for, or among which cells the choice is."""

    id: int
    name: str
    state: KitFileState
    why: str
    cell_id: int | None
    candidates: list[int]
    rate: int
    channels: int
    seconds: float
    received_at: datetime


class KitBody(Body):
    """A run's kit: all that is to come back, and all that did."""

    run_id: int
    effect: str
    version: str
    plan: str
    missing: int
    places: list[KitPlaceBody]
    files: list[KitFileBody]


class RefusedBody(Body):
    """A file that was not kept, and why."""

    name: str
    why: str


class KitReceiptBody(Body):
    """What became of an upload."""

    kept: list[KitFileBody]
    refused: list[RefusedBody]


class AssignBody(Body):
    """Which render a file is; without a take, the first that is missing."""

    cell_id: int
    take: int | None = Field(default=None, ge=1)


class KitUploadQuery(RequestModel):
    """The name of the file that the request carries."""

    name: Annotated[str, Field(min_length=1, max_length=255), FileName]


class KitFilePath(RequestModel):
    """Which returned file."""

    file_id: int
