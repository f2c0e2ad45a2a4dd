"""What explains a difference: a typed list of causes, and the words for it."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from kind_echo.core.registry.numbers import number

CauseName = Literal[
    "none", "quantisation", "delay", "drift", "polarity", "gain", "channel_gain", "filter", "dc", "gap", "click",
    "length", "channel_swap", "channel_missing", "silent", "non_finite", "clipping", "non_linear", "level_control",
    "noise", "lossy", "unrelated", "unexplained",
]  # fmt: skip


@dataclass(frozen=True)
class Cause:
    """One thing that differs.

    Attributes:
        channel: "all", or a 1-based number where one channel alone has it.
        amount: by how much, in `unit`; None where there is no number for it.
        takes_off: dB of residual that are gone once it and those before it are undone; None where it cannot be undone.
        why: what stands beside the amount.
    """

    cause: CauseName
    channel: str = "all"
    amount: float | None = None
    unit: str = ""
    takes_off: float | None = None
    why: str | None = None


_TITLES: dict[CauseName, str] = {
    "none": "identical",
    "quantisation": "rounding to shorter words",
    "polarity": "polarity inverted",
    "filter": "a change of linear filtering",
    "channel_swap": "channels swapped",
    "channel_missing": "a channel is missing",
    "silent": "silent",
    "clipping": "clipped",
    "non_linear": "a non-linear curve",
    "level_control": "a gain that follows the level",
    "noise": "noise",
    "lossy": "lossy encoding",
    "unrelated": "unrelated to the reference",
}


def describe(causes: Sequence[Cause]) -> str:
    """The causes in a line of words."""
    return ", ".join(said(cause) for cause in causes)


def said(cause: Cause) -> str:
    """A cause in words: what, by how much, and in which channel where it is in one alone."""
    where = "" if cause.channel == "all" or cause.cause == "channel_missing" else f" in channel {cause.channel}"
    return f"{_what(cause)}{where}"


def _what(cause: Cause) -> str:
    amount = cause.amount
    title = _TITLES.get(cause.cause)
    if cause.cause in ("unexplained", "non_finite", "length") and cause.why:
        return cause.why
    if cause.cause == "channel_missing":
        return f"channel {cause.channel} is silent"
    if amount is None:
        return title or cause.cause
    if cause.cause == "delay":
        return f"{samples(abs(amount))} {'late' if amount > 0 else 'early'}"
    if cause.cause == "drift":
        return f"a clock {abs(amount):.1f} ppm {'slow' if amount > 0 else 'fast'}"
    if cause.cause in ("gain", "channel_gain"):
        return f"{abs(amount):.2f} dB {'up' if amount > 0 else 'down'}"
    if cause.cause == "filter" and cause.why:
        return f"{title} ({cause.why})"
    if cause.cause == "dc":
        return f"an offset of {number(amount, '+.5f')}"
    if cause.cause in ("gap", "click"):
        return f"{amount:.0f} {cause.cause}{'' if amount == 1 else 's'}"
    if cause.cause == "quantisation":
        return f"{title}, of {amount:.0f} bits"
    if cause.cause == "noise":
        return f"{title} at {number(amount, '.1f')} dBFS"
    return title or cause.cause


def samples(count: float) -> str:
    """A number of samples in words, whole where it is."""
    whole = round(count)
    if abs(count - whole) < 0.005:
        return f"{whole} sample{'' if whole == 1 else 's'}"
    return f"{count:.2f} samples"
