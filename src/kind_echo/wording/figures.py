"""Readings, limits and amounts as they stand in a sentence or a table."""

from kind_echo.core.registry.limits import Judgement
from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading

_OUTCOMES: dict[Judgement, str] = {
    "met": "holds", "broken": "broken", "unknown": "broken, for there is no reading",
}  # fmt: skip

WHOLE_WITHIN = 0.005
"""Samples; a count that is no further from a whole number is told as that number."""


def value_text(value: float, measure: Measure) -> str:
    """A value without its unit: with a plus where either direction means something."""
    if measure.drawing == "flag":
        return "yes" if value == 1 else "no"
    plus = "+" if measure.signed or measure.drawing == "sign" else ""
    text = number(value, f"{plus}.{measure.decimals}f")
    return text if text.strip("+0.") else text.lstrip("+")  # nothing lies on neither side of zero


def figure(reading: Reading) -> str:
    """A reading with its unit, or the reason why it has no value."""
    measure = reading.of
    if reading.value is None:
        return reading.why or "no reading"
    return f"{value_text(reading.value, measure)} {measure.unit}".rstrip()


def limit_text(limit: Limit, decimals: int | None = None) -> str:
    """The bounds of a limit, without their unit; empty for one that has none.

    Args:
        decimals: digits after the point; None for as many as there are.
    """
    form = "g" if decimals is None else f".{decimals}f"
    low, high = limit.at_least, limit.at_most
    if low is not None and high is not None:
        return f"{number(low, form)} … {number(high, form)}"
    if high is not None:
        return f"≤ {number(high, form)}"
    return f"≥ {number(low, form)}" if low is not None else ""


def judged_limit_text(reading: Reading, limit: Limit, judgement: Judgement) -> str:
    """As "True peak −2.32 dBTP, limit ≤ −3.00: broken"."""
    measure = reading.of
    joined = " " if reading.value is not None else ": "
    bounds = limit_text(limit, measure.decimals)
    return f"{measure.title}{joined}{figure(reading)}, limit {bounds}: {_OUTCOMES[judgement]}"


def counted(count: int, one: str, many: str = "") -> str:
    """A count with its noun: "1 click", "3 clicks"."""
    return f"{number(count, ',d')} {one if count == 1 else many or f'{one}s'}"


def samples(count: float) -> str:
    """A number of samples, whole where it is."""
    whole = round(count)
    if abs(count - whole) < WHOLE_WITHIN:
        return counted(whole, "sample")
    return f"{number(count, '.2f')} samples"


def late_or_early(delay: float) -> str:
    """A delay in samples, as one says it: "3 samples late"."""
    return f"{samples(abs(delay))} {'late' if delay > 0 else 'early'}"


def up_or_down(gain: float) -> str:
    """A gain in decibels, as one says it: "0.30 dB up"."""
    return f"{abs(gain):.2f} dB {'up' if gain > 0 else 'down'}"
