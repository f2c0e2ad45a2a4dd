"""What explains a difference: a typed list of causes; `kind_echo.wording` has the words."""

from dataclasses import asdict, dataclass
from typing import Literal

CauseName = Literal[
    "none", "quantisation", "delay", "drift", "polarity", "gain", "channel_gain", "filter", "dc", "gap", "click",
    "length", "channel_swap", "channel_missing", "silent", "non_finite", "clipping", "non_linear", "level_control",
    "aliasing", "gain_motion", "time_jump", "wander", "channel_mix", "echo", "added_tone", "noise", "lossy",
    "unrelated", "unexplained",
]  # fmt: skip


@dataclass(frozen=True)
class Cause:
    """One thing that differs.

    Attributes:
        channel: "all", or a 1-based number where one channel alone has it.
        amount: by how much, in `unit`; None where there is no number for it.
        takes_off: dB of residual that are gone once it and those before it are undone; None where it cannot be undone.
        why: what stands beside the amount.
        start, length: seconds on the reference's time axis, of what has a place; None of what holds all along.
    """

    cause: CauseName
    channel: str = "all"
    amount: float | None = None
    unit: str = ""
    takes_off: float | None = None
    why: str | None = None
    start: float | None = None
    length: float | None = None

    def document(self) -> dict[str, str | float | None]:
        """As JSON keeps it: a place only where there is one."""
        kept = asdict(self)
        return {key: value for key, value in kept.items() if key not in ("start", "length") or value is not None}
