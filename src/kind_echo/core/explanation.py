"""What explains a difference, in a line of words."""

from collections.abc import Callable

from kind_echo.core.account import STEPS
from kind_echo.core.readings import Reading, value_of


def describe(readings: list[Reading]) -> str:
    """What explains the difference, in a line."""
    if value_of(readings, "identical") == 1.0:
        return "identical"
    levels = [value_of(readings, step) for step in STEPS]
    if levels[0] is None or levels[-1] is None:
        whole = next((r for r in readings if r.measure == STEPS[0] and r.channel == "all"), None)
        if whole is not None and levels[0] is None:
            return whole.why or "nothing is different"
    words = [phrase(readings) for step, phrase in _PHRASES if _explains(readings, step)]
    floor = levels[-1]
    if floor is not None and floor > -120.0 and levels[0] is not None and levels[0] - floor < 20.0:
        words.append("something non-linear, or noise")
    return ", ".join(words) or "nothing linear explains it"


def _explains(readings: list[Reading], step: str) -> bool:
    """Whether a step lowers what the one before it leaves by at least 3 dB."""
    before, after = (value_of(readings, key) for key in (STEPS[STEPS.index(step) - 1], step))
    if step == "account_delay":
        # Off an inverted copy the residual falls only once the polarity is off as well.
        if round(value_of(readings, "delay") or 0.0) == 0:
            return False
        turned = value_of(readings, "account_polarity")
        after = None if after is None or turned is None else min(after, turned)
    if before is None:
        return False
    return after is None or before - after >= 3.0


def _late(readings: list[Reading]) -> str:
    samples = round(value_of(readings, "delay") or 0.0)
    return f"{_count(abs(samples), 'sample')} {'late' if samples > 0 else 'early'}"


def _louder(readings: list[Reading]) -> str:
    gain = value_of(readings, "gain") or 0.0
    return f"{abs(gain):.2f} dB {'up' if gain > 0 else 'down'}"


def _part(readings: list[Reading]) -> str:
    delay = value_of(readings, "delay") or 0.0
    fraction = delay - round(delay)
    return f"{abs(fraction):.2f} of a sample {'late' if fraction > 0 else 'early'}"


_PHRASES: tuple[tuple[str, Callable[[list[Reading]], str]], ...] = (
    ("account_delay", _late),
    ("account_polarity", lambda _: "polarity turned over"),
    ("account_gain", _louder),
    ("account_fraction", _part),
    ("account_filter", lambda _: "a change of linear filtering"),
)


def _count(number: int, what: str) -> str:
    return f"{number} {what}" if number == 1 else f"{number} {what}s"
