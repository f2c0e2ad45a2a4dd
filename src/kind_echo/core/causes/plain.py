"""Causes that the readings name without a model: nothing, a whole delay, another length."""

from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.explained import ComparedFacts
from kind_echo.core.registry.readings import value_of


def plain_causes(known: ComparedFacts) -> list[Cause] | None:
    """Causes that need no model; None where there is more to tell."""
    readings = known.readings
    if value_of(readings, "identical") == 1.0:
        return [Cause("none")]
    length = length_cause(known)
    if value_of(readings, "residual_rms") is None and not value_of(readings, "silent"):
        # Every sample that has a partner is the same: they differ in length, or in delay, alone.
        delay = round(known.delay or 0.0)
        late = [Cause("delay", amount=float(delay), unit="samples", takes_off=None)] if delay else []
        return [*late, *length] or None
    return None


def length_cause(known: ComparedFacts) -> list[Cause]:
    """Frames by which the sides differ in length, where a delay does not account for them."""
    frames = value_of(known.readings, "length_difference") or 0.0
    if frames == 0.0 or abs(frames - round(known.delay or 0.0)) < 1.0:
        return []
    return [Cause("length", amount=frames, unit="frames", why=f"{abs(frames):.0f} frames {_more(frames)}")]


def _more(frames: float) -> str:
    return "longer" if frames > 0 else "shorter"
