"""Causes in words."""

from collections.abc import Iterable, Sequence

from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading
from kind_echo.wording.figures import counted, late_or_early, up_or_down

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
    "gain_motion": "a gain that moves",
    "time_jump": "out of step",
    "wander": "a delay that wanders",
    "channel_mix": "channels mixed",
    "echo": "an echo",
    "added_tone": "a tone that was not there",
    "aliasing": "aliasing",
    "noise": "noise",
    "lossy": "lossy encoding",
    "unrelated": "unrelated to the reference",
}
_DIFFERS_BY: dict[CauseName, str] = {
    "filter": "its filtering",
    "non_linear": "a non-linear curve",
    "clipping": "clipping",
    "dc": "an offset",
    "level_control": "a gain that follows the level",
    "gain_motion": "a gain that moves with time",
    "time_jump": "jumps in time",
    "wander": "a delay that wanders",
    "channel_mix": "mixed channels",
    "echo": "an echo",
    "added_tone": "an added tone",
    "aliasing": "aliases",
    "noise": "noise",
    "drift": "a clock that runs apart",
    "channel_gain": "the level of a channel",
    "lossy": "lossy encoding",
    "quantisation": "shorter words",
    "unrelated": "all of it: the two are unrelated",
}


def describe(causes: Iterable[Cause]) -> str:
    """The causes in a line of words."""
    return ", ".join(cause_text(cause) for cause in causes)


def cause_text(cause: Cause) -> str:
    """A cause in words: what, by how much, and in which channel where it is in one alone."""
    where = "" if cause.channel == "all" or cause.cause == "channel_missing" else f" in channel {cause.channel}"
    return f"{_what(cause)}{where}{_place(cause)}"


def _place(cause: Cause) -> str:
    """Where in the file a cause holds, where it is not said already."""
    if cause.start is None or cause.cause in ("time_jump", "gain_motion", "gap", "click"):
        return ""
    if cause.length is None:
        return f" from {cause.start:.3f} s on"
    return f" from {cause.start:.3f} to {cause.start + cause.length:.3f} s"


def differs_by(cause: CauseName) -> str:
    """What a render differs by, without an amount; empty for what is told in another way."""
    return _DIFFERS_BY.get(cause, "")


def noted(readings: Sequence[Reading], causes: Sequence[Cause]) -> list[Reading]:
    """Readings of a comparison, the least that is left over noted with what explains the difference."""
    words = describe(causes)
    return [r.noted(words) if (r.measure, r.channel) == ("account_remainder", "all") else r for r in readings]


def _what(cause: Cause) -> str:
    amount = cause.amount
    title = _TITLES.get(cause.cause)
    if cause.cause in ("unexplained", "non_finite", "length") and cause.why:
        return cause.why
    if cause.cause == "polarity" and cause.why:
        return f"{title}, {cause.why}"
    if cause.cause in ("level_control", "clipping") and cause.why:
        return f"{title}{' ' if cause.cause == 'clipping' else ', '}{cause.why}"
    if cause.cause == "channel_missing":
        return f"channel {cause.channel} is silent"
    if amount is None:
        return title or cause.cause
    if cause.cause == "delay":
        return ", ".join(filter(None, [late_or_early(amount), cause.why]))
    if cause.cause == "drift":
        return f"a clock {abs(amount):.1f} ppm {'slow' if amount > 0 else 'fast'}"
    if cause.cause in ("gain", "channel_gain"):
        return up_or_down(amount)
    if cause.cause == "filter" and cause.why:
        return f"{title} ({cause.why})"
    if cause.cause == "dc":
        return ", ".join(filter(None, [f"an offset of {number(amount, '+.5f')}", cause.why]))
    if cause.cause in ("gap", "click"):
        return ", ".join(filter(None, [counted(round(amount), cause.cause), cause.why]))
    if cause.cause == "time_jump":
        return _jump(cause)
    if cause.cause in ("gain_motion", "channel_mix") and cause.why:
        return cause.why if cause.cause == "channel_mix" else f"a level that {cause.why}"
    if cause.cause == "wander":
        return f"a delay that wanders by ±{amount:.2f} samples ({cause.why})"
    if cause.cause == "echo":
        return f"an echo at {number(amount, '.1f')} dB, {cause.why}"
    if cause.cause == "added_tone":
        return f"an added tone of {cause.why} at {number(amount, '.1f')} dBFS"
    if cause.cause == "aliasing":
        return f"aliasing at {number(amount, '.1f')} {cause.unit}{f' ({cause.why})' if cause.why else ''}"
    if cause.cause == "non_linear":
        return f"new harmonics at {number(amount, '.1f')} {cause.unit}{f' ({cause.why})' if cause.why else ''}"
    if cause.cause == "quantisation":
        return f"{title}, of {amount:.0f} bits"
    if cause.cause == "noise":
        whose = {"both": ", of both sides", "reference": ", of the reference alone"}.get(cause.sides or "", "")
        return f"{title} at {number(amount, '.1f')} dBFS{whose}"
    return title or cause.cause


def _jump(cause: Cause) -> str:
    """From where on a render is out of step, or for how long."""
    start, shift = cause.start or 0.0, late_or_early(cause.amount or 0.0)
    if cause.length is None:
        return f"from {start:.3f} s on {shift}: {cause.why}"
    return f"at {start:.3f} s for {1000 * cause.length:.1f} ms {cause.why}"
