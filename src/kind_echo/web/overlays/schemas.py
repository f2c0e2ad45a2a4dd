"""Bodies of curves over each other."""

from pydantic import Field

from kind_echo.bench.overlays import MOST_LINES, What
from kind_echo.core.overlays.kinds import Join, KindKey
from kind_echo.web.http.files import PlotForm
from kind_echo.web.http.schemas import Body, RequestModel

_NUMBERS = Field("", max_length=MOST_LINES * 11, pattern=r"^(\d{1,9}(,\d{1,9})*)?$")


class OverlayQuery(Body):
    """By what, against which of them, and, of waveforms and levels, which passage in seconds."""

    kind: str = Field("", max_length=40)
    against: int | None = Field(None, ge=0)
    start: float | None = Field(None, ge=0.0)
    stop: float | None = Field(None, gt=0.0)


class SetOverlayQuery(OverlayQuery):
    """Which files of the set, with commas between; all of them where none is named."""

    files: str = _NUMBERS


class CellsOverlayQuery(OverlayQuery):
    """Which cells, with commas between."""

    cells: str = _NUMBERS


class SetOverlayPath(RequestModel):
    """Which set, and the form of the file."""

    set_id: int
    form: PlotForm


class CellOverlayPath(RequestModel):
    """Which cell, and the form of the file."""

    cell_id: int
    form: PlotForm


class FormPath(RequestModel):
    """The form of the file."""

    form: PlotForm


class PointsBody(Body):
    """Values in their places; of a waveform `low` is the least in each, and `y` the greatest.

    Of a difference `y` is null where neither line is worth a look.
    """

    x: list[float]
    y: list[float | None]
    low: list[float] | None


class OverlayLineBody(PointsBody):
    """A row that is drawn; `number` is that of the file or the cell, and 0 that of the approved reference."""

    number: int
    label: str
    difference: PointsBody | None


class LeftOutLineBody(Body):
    """A row that is not drawn, and why."""

    label: str
    why: str


class ChoiceBody(Body):
    """Something to choose: its key, and what it is called."""

    key: str
    title: str


class OverlayBody(Body):
    """Lines over each other.

    `together` tells whether one picture tells the lines apart; else each has one of its own. `passage` is in seconds,
    of `seconds` in all. What is under
    `least` is not looked at. `finding` says which line lies farthest from the reference.
    """

    shared: str
    finding: str
    kind: KindKey
    kinds: list[ChoiceBody]
    join: Join
    x_unit: str
    y_unit: str
    x_title: str
    y_title: str
    least: float | None
    difference_unit: str
    together: bool
    what: What
    over_time: bool
    reference: int | None
    rows: list[ChoiceBody]
    lines: list[OverlayLineBody] = Field(max_length=MOST_LINES + 1)
    law: PointsBody | None
    left_out: list[LeftOutLineBody]
    passage: list[float]
    seconds: float
