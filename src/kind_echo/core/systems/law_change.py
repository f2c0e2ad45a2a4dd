"""What changed of a level control between two builds, told by the signal that went into both."""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.comparison.pair import Comparison
from kind_echo.core.registry.errors import BadParameter, KindEchoError
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Reading

_FIXED_GAIN = "gain_below_threshold"


@dataclass(frozen=True)
class _Part:
    """A number of a level control.

    Attributes:
        said: how it is called in a line.
        format: of the number.
        least: by which it must differ beyond the uncertainty of both: what is printed shows no less.
    """

    said: str
    format: str
    least: float


_PARTS = {
    "threshold_estimate": _Part("threshold", ".1f", 0.1),
    "ratio_estimate": _Part("ratio", ".2f", 0.02),
    "knee_estimate": _Part("knee", ".1f", 0.2),
    "attack_constant": _Part("attack", ".3g", 0.05),
    "release_constant": _Part("release", ".3g", 0.05),
    "lookahead": _Part("look-ahead", ".2f", 0.1),
}
_LEAST_GAIN_DB = 0.01  # dB of a gain where no level is controlled
_MOVES = ("level_control", "gain_motion")
"""Causes that are a gain which moves, and explain all where they do."""
_OF_A_LAW = (*_MOVES, "unexplained", "noise", "filter", "click", "gain", "channel_gain", "non_linear")
"""Causes that a changed law looks like where it is not known; a curve without orders of a tone beside others alone."""


def with_changed_law(found: Comparison, stimulus: Source, reference: Source, render: Source) -> Comparison:
    """A comparison whose cause is the law that changed, where the signal that went in shows one.

    Args:
        stimulus: what went into both: a staircase of levels, or a burst; of all else nothing changes.
    """
    if not _may_be_a_law(found):
        return found
    told = _change(stimulus, reference, render)
    if told is None:
        return found
    others = [cause for cause in found.causes if cause.cause not in _OF_A_LAW]
    return replace(found, causes=[*told, *others])


def _may_be_a_law(found: Comparison) -> bool:
    named = {cause.cause for cause in found.causes}
    bends = any(cause.cause in ("clipping", "aliasing") or cause.orders is not None for cause in found.causes)
    if bends or not named & ({*_OF_A_LAW} - {"non_linear"}):
        return False
    return bool(named & {*_MOVES}) or not found.is_deep


def _change(stimulus: Source, reference: Source, render: Source) -> list[Cause] | None:
    # Slow to load, and of most pairs not needed.
    from kind_echo.core.systems.dynamics import measure_dynamics
    from kind_echo.core.systems.transfer import measure_curve

    for measure in (measure_curve, measure_dynamics):
        try:
            (before, was), (after, now) = measure(stimulus, reference), measure(stimulus, render)
        except BadParameter:
            continue  # it is another signal
        except KindEchoError:
            return None  # of another rate, or with other channels
        return _told(before, after, _apart(was, now))
    return None


def _told(before: Sequence[Reading], after: Sequence[Reading], apart: float) -> list[Cause] | None:
    """The causes that readings of the same measures tell; None where no part of the law differs for sure."""
    pairs = {
        one.measure: (one, other)
        for one, other in zip(before, after, strict=True)
        if one.channel == "all" and one.value is not None and other.value is not None and one.reason == other.reason
    }
    changes = [_changed(part, *pairs[key]) for key, part in _PARTS.items() if key in pairs]
    told = ", ".join(filter(None, changes))
    if not told:
        return None
    causes = [Cause("level_control", amount=apart, unit="dB", why=told)]
    if _FIXED_GAIN in pairs:
        one, other = pairs[_FIXED_GAIN]
        moved = (other.value or 0.0) - (one.value or 0.0)
        if abs(moved) > max(_LEAST_GAIN_DB, _unsure(one, other)):
            causes.append(Cause("gain", amount=moved, unit="dB"))
    return causes


def _changed(part: _Part, before: Reading, after: Reading) -> str:
    """A part in words, from what to what; empty where the two do not differ for sure."""
    was, now = before.value or 0.0, after.value or 0.0
    if abs(now - was) <= max(part.least, _unsure(before, after)):
        return ""
    unit = before.of.unit.removesuffix("FS")
    figures = f"{number(was, part.format)} → {number(now, part.format)}"
    return f"{part.said} {figures} {unit}".rstrip()


def _unsure(one: Reading, other: Reading) -> float:
    return math.hypot(one.uncertainty or 0.0, other.uncertainty or 0.0)


def _apart(was: dict[str, Curve], now: dict[str, Curve]) -> float:
    """The greatest distance of two curves of level or gain over the same axis, dB."""
    found = [_farthest(was[key].y, now[key].y) for key in ("transfer", "gain") if key in was and key in now]
    return max(found, default=0.0)


def _farthest(was: Iterable[float], now: Iterable[float]) -> float:
    return max((abs(b - a) for a, b in zip(was, now, strict=False)), default=0.0)
