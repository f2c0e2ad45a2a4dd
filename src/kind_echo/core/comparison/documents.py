"""The shape in which a place to look at is kept as JSON."""

from typing import Literal, TypedDict

from kind_echo.core.causes.cause import CauseName


class PlaceDocument(TypedDict):
    """A place; `of` tells whether it is of the difference or of the render by itself. Else as `places.Place`."""

    of: Literal["difference", "render"]
    start: float
    length: float
    cause: CauseName | None
    amount: float
    unit: str
    reason: str
