"""The shapes in which readings, limits and curves are kept as JSON: strict, with no infinity and no NaN."""

from typing import NotRequired, TypedDict

from kind_echo.core.registry.readings import Reason


class ReadingDocument(TypedDict):
    """A reading; a bound that is infinite is "Infinity" or "-Infinity"."""

    measure: str
    channel: str
    value: float | None
    unit: str
    why: str | None
    uncertainty: NotRequired[float]
    at_most: NotRequired[float | str]
    at_least: NotRequired[float | str]
    reason: NotRequired[Reason]


class LimitDocument(TypedDict):
    """A limit; both None for a reading that is left unjudged."""

    at_least: float | None
    at_most: float | None


class MarkDocument(TypedDict):
    """A place on a curve's axis."""

    x: float
    text: str


class CurveDocument(TypedDict):
    """A curve as it is drawn; `side` is "reference", "render" or "difference"."""

    name: str
    side: str
    x_unit: str
    y_unit: str
    x: list[float]
    y: list[float]
    marks: list[MarkDocument]


class AxisDocument(TypedDict):
    """One axis of a curve as the command line prints it."""

    unit: str
    values: list[float]


class WholeCurveDocument(TypedDict):
    """A curve as the command line prints it: every point."""

    x: AxisDocument
    y: AxisDocument


class FileDocument(TypedDict):
    """A file that was read, as it stands under "inputs".

    `path` as it was given, where it is told; `readings` of a side of a pair by itself.
    """

    path: NotRequired[str]
    rate: int
    channels: int
    frames: int
    subtype: str
    sha256: str
    readings: NotRequired[list[ReadingDocument]]
