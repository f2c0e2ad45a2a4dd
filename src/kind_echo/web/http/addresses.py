"""Addresses: the paths and queries of routes that several rooms share."""

from typing import Annotated, Literal

from pydantic import Field

from kind_echo.web.http.schemas import FileName, RequestModel


class RunPath(RequestModel):
    """Which run."""

    run_id: int


class CellPath(RequestModel):
    """Which cell."""

    cell_id: int


class BesideQuery(RequestModel):
    """Which cell a cell is compared with, where that is not its reference."""

    beside: int | None = None


class ComparisonPath(RequestModel):
    """Which comparison."""

    comparison_id: int


class AudioPath(RequestModel):
    """Which audio."""

    address: str


class StripQuery(RequestModel):
    """Which frames, and on how many columns they are drawn."""

    start: int = Field(ge=0)
    stop: int = Field(ge=1)
    columns: int = Field(ge=1, le=8192)


class MapQuery(StripQuery):
    """Which frames are mapped to how many columns and rows."""

    columns: int = Field(ge=1, le=2048)
    rows: int = Field(ge=1, le=512)
    even: bool = False
    quick: bool = False


class PartQuery(RequestModel):
    """Which minute, the first of them 0."""

    part: int = Field(0, ge=0, le=100_000)


class RangeQuery(RequestModel):
    """Which frames."""

    start: int = Field(ge=0)
    stop: int = Field(ge=1)


class AudioFileQuery(RequestModel):
    """The form of an audio file, and what it is to be called."""

    form: Literal["wav", "flac"] = "wav"
    name: Annotated[str, Field(min_length=1, max_length=200), FileName] = "audio"


class UploadQuery(RequestModel):
    """The name of the file that the request carries."""

    name: Annotated[str, Field(min_length=1, max_length=255), FileName]
