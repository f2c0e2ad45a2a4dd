"""Sets of own files: how they are measured, and their table."""

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from kind_echo.audio_io.codecs import Codec
from kind_echo.bench.sets import MOST_FILES, Also
from kind_echo.core.listening.match import By
from kind_echo.core.registry.limits import Judgement
from kind_echo.core.registry.readings import Reason
from kind_echo.database.states import FileRole
from kind_echo.web.http.schemas import Body, LimitBody, RequestModel, ShownName, ShownTitle

Name = Annotated[str, Field(min_length=1, max_length=200), ShownTitle]
_Word = Annotated[str, Field(min_length=1, max_length=120), ShownName]
Hertz = Field(default=None, gt=0.0, le=1e6)
Numbers = Field(min_length=1, max_length=MOST_FILES)


class SetPath(RequestModel):
    """One set."""

    set_id: int


class SetFilePath(SetPath):
    """One file of a set."""

    file_id: int


class SetsQuery(RequestModel):
    """The sets that are older than one, newest first."""

    before: int | None = Field(default=None, ge=1)


class SetOptionsBody(Body):
    """How each file is compared with the reference, and for what it is measured beside levels."""

    align: Literal["none", "samples", "fraction"] = "samples"
    match_gain: bool = False
    match_polarity: bool = False
    max_delay: int | None = Field(default=None, ge=1, le=10_000_000)
    ceiling: float | None = Field(default=None, ge=-200.0, le=20.0)
    resample: bool = False
    also: Also = "nothing"
    frequency: float | None = Hertz
    signal_id: int | None = None
    codec: Codec = "mp3"
    bitrate: float = Field(default=128.0, ge=8.0, le=512.0)


class NewSetBody(Body):
    """A new set; without a name it is called by the day."""

    name: str = Field(default="", max_length=200)


class NewFileBody(Body):
    """A file that was uploaded, and the folder that it came from."""

    upload_id: int
    folder: str = Field(default="", max_length=500)


class NewFilesBody(Body):
    """Files for a set."""

    files: list[NewFileBody] = Numbers


class ChangeSetBody(Body):
    """What is to change of a set; null leaves it as it is.

    `roles` names the reference or the input by the number of its row; all other files are files.
    """

    name: Name | None = None
    note: str | None = Field(default=None, max_length=4000)
    options: SetOptionsBody | None = None
    roles: dict[int, FileRole] | None = Field(default=None, max_length=MOST_FILES)
    columns: list[str] | None = Field(default=None, max_length=40)
    limits: dict[str, LimitBody] | None = Field(default=None, max_length=40)


class SomeFilesBody(Body):
    """Files of a set, by the numbers of their rows."""

    file_ids: list[int] = Numbers


class CopySetBody(Body):
    """The name of the copy."""

    name: Name


class LevelBody(Body):
    """To which level, by which measure, and over which passage; the whole file unless one is given."""

    target: float = Field(ge=-200.0, le=50.0)
    by: By
    passage: Literal["whole", "loudest", "first", "given"] = "whole"
    start: float = Field(default=0.0, ge=0.0)
    end: float = Field(default=0.0, ge=0.0)


class TrimsBody(LevelBody):
    """The file that is brought to a level."""

    file_id: int


class LevelQuery(RequestModel):
    """The copies that are wanted: numbers of rows, with commas between them."""

    files: str = Field(pattern=r"^[0-9]+(,[0-9]+)*$", max_length=2000)
    target: float = Field(ge=-200.0, le=50.0)
    by: By
    passage: Literal["whole", "loudest", "first", "given"] = "whole"
    start: float = Field(default=0.0, ge=0.0)
    end: float = Field(default=0.0, ge=0.0)


class TrimBody(Body):
    """target − measured = trim; null throughout where there is no level, with the reason."""

    measured: float | None
    target: float
    trim: float | None
    error: float | None
    peak: float | None
    why: str


class SetReadingBody(Body):
    """A figure of a row: `change` is by how much it is above the reference's."""

    value: float | None
    change: float | None
    at_most: float | None
    why: str | None
    reason: Reason | None
    judgement: Judgement | None


class SetFileBody(Body):
    """A row: a file and what was found of it; `comparison_id` is its pair with the reference."""

    id: int
    upload_id: int
    name: str
    folder: str
    role: FileRole
    state: Literal["measuring", "done", "failed"]
    why: str
    rate: int
    channels: int
    frames: int
    subtype: str
    address: str
    comparison_id: int | None
    readings: dict[str, SetReadingBody]


class SetBody(Body):
    """A set and its table: `columns` are keys of measures, `measured` those that any of its files has."""

    id: int
    name: str
    note: str
    brought_by: str
    created_at: datetime
    options: SetOptionsBody
    columns: list[str]
    chosen: bool
    measured: list[str]
    limits: dict[str, LimitBody]
    files: list[SetFileBody]


class SetLineBody(Body):
    """A set in a list."""

    id: int
    name: str
    note: str
    brought_by: str
    created_at: datetime
    files: int


class SetsBody(Body):
    """Sets, newest first; `more` where there are older ones."""

    sets: list[SetLineBody]
    more: bool


class PlanOfSetBody(Body):
    """What a plan of a set is called, and the effect, its build and the host by hand that are made with it."""

    plan: _Word
    effect: _Word
    version: _Word
    host: _Word
    host_version: _Word


class LeftOutBody(Body):
    """A file that the plan does without, and why."""

    name: str
    why: str


class PlannedBody(Body):
    """The run of which the files of a set are the renders, and soon the references."""

    plan_id: int
    run_id: int
    left_out: list[LeftOutBody]


class MadeSetBody(Body):
    """The number of a set that was made."""

    id: int
