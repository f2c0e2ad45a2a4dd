"""What explains a difference: a typed list of causes; `kind_echo.wording` has the words."""

from dataclasses import asdict, dataclass
from typing import Any, Literal, NotRequired, TypedDict, cast

CauseName = Literal[
    "none", "quantisation", "delay", "drift", "polarity", "gain", "channel_gain", "filter", "dc", "gap", "click",
    "length", "channel_swap", "channel_missing", "silent", "non_finite", "clipping", "non_linear", "level_control",
    "aliasing", "gain_motion", "time_jump", "wander", "channel_mix", "echo", "added_tone", "noise", "lossy",
    "unrelated", "unexplained",
]  # fmt: skip

Sides = Literal["both", "reference"]


class CauseDocument(TypedDict):
    """A cause as JSON keeps it; a document of another program may leave out what has a usual value."""

    cause: CauseName
    channel: NotRequired[str]
    amount: NotRequired[float | None]
    unit: NotRequired[str]
    takes_off: NotRequired[float | None]
    why: NotRequired[str | None]
    start: NotRequired[float]
    length: NotRequired[float]
    orders: NotRequired[list[int]]
    is_new: NotRequired[bool]
    sides: NotRequired[Sides]


_WHERE_THERE = ("start", "length", "orders", "is_new", "sides")


@dataclass(frozen=True)
class Cause:
    """One thing that differs.

    Attributes:
        channel: "all", or a 1-based number where one channel alone has it.
        amount: by how much, in `unit`; None where there is no number for it.
        takes_off: dB of residual that are gone once it and those before it are undone; None where it cannot be undone.
        why: what stands beside the amount.
        start, length: seconds on the reference's time axis, of what has a place; None of what holds all along.
        orders: first and last order of a tone that folds, or that is new; None of all that has no orders.
        is_new: whether nothing of these orders stands out of the reference.
        sides: whose noise it is, where the reference has some of its own; None where the render alone has it.
    """

    cause: CauseName
    channel: str = "all"
    amount: float | None = None
    unit: str = ""
    takes_off: float | None = None
    why: str | None = None
    start: float | None = None
    length: float | None = None
    orders: tuple[int, int] | None = None
    is_new: bool = False
    sides: Sides | None = None

    def document(self) -> CauseDocument:
        """As JSON keeps it: a place and orders only where there are any."""
        kept = {
            key: value for key, value in asdict(self).items() if key not in _WHERE_THERE or value not in (None, False)
        }
        return cast("CauseDocument", kept)

    @classmethod
    def of(cls, document: CauseDocument) -> "Cause":
        """The cause that a document keeps."""
        kept: dict[str, Any] = {**document}
        if kept.get("orders") is not None:
            first, last = kept["orders"]
            kept["orders"] = first, last
        return cls(**kept)
