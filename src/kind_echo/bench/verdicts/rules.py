"""From readings and limits to a verdict, the reason in words, and how much ink the cell gets."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading, Reason, value_of

VerdictName = Literal["Pass", "Changed", "Fail", "No reading", "Waiting"]

FLOAT_FLOOR = 20 * math.log10(2.0**-24)
"""dBFS; a residual below it is rounding."""

_TAKE_MARGIN = 3.0  # dB: the spread is the greatest of a few differences, and the next may be a little greater

INK_RANGE = 144.0
"""Decibels from no ink to a full cell."""

INK_AT_LIMIT = 24.0 / INK_RANGE
"""Share of a cell that a reading just at its limit fills."""

RULES_VERSION = 2
"""Of the rules in this module: raised when they change, so that no verdict by earlier rules is taken over."""

THE_REFERENCE = "the reference"
"""What a render is compared with, in words, unless it is something else."""

ITS_SIGNAL = "its signal"
"""What the render of a case that is judged against its own signal is compared with, in words."""

_NOTHING_LEFT: frozenset[Reason] = frozenset({"null", "identical"})
"""Reasons for no residual that mean a perfect null; any other means that nothing was compared."""

NO_REFERENCE = "No reference is approved yet"
NOT_COMPARED = "Within its limits; not compared, for no reference is approved yet"
UNFIT: dict[str, str] = {
    "non_finite": "Samples that are not finite",
    "silent": "Silent",
    "lead_in_excess": "Silence at the start",
    "length_difference": "Wrong length",
}
PHRASES = {
    "delay": "Late or early",
    "gain": "Level differs",
    "polarity": "Polarity inverted",
    "latency_error": "Later or earlier than claimed",
    "fundamental_level": "Level of the tone is off",
    "channel_swap": "Channels swapped",
}


@dataclass(frozen=True)
class Verdict:
    """What is said of a cell.

    Attributes:
        name: one of the five.
        why: one line in words.
        ink: 0 (blank) to 1 (full); how far the worst reading stands from its limit, on a scale of decibels.
        broken: the measures that broke their limits, worst first.
        unfit: the render failed integrity, so that it cannot become a reference.
    """

    name: VerdictName
    why: str
    ink: float = 0.0
    broken: tuple[str, ...] = ()
    unfit: bool = False


def phrase(measure: str, other: str = THE_REFERENCE) -> str:
    """A broken measure in words; `other` is what the render was compared with."""
    return f"Differs from {other}" if measure == "residual_rms" else PHRASES.get(measure, find_measure(measure).title)


def needs_comparing(limits: Mapping[str, Limit]) -> bool:
    """Whether limits wait for a reference: there are none, or all hold for what is told against one.

    Integrity is looked at in any case, and says nothing of how an effect sounds.
    """
    asked = [find_measure(key) for key in limits if find_measure(key).family != "integrity"]
    return not limits or (bool(asked) and all(measure.needs == "pair" for measure in asked))


def judge_cell(
    render: Sequence[Reading],
    comparison: Sequence[Reading] | None,
    limits: Mapping[str, Limit],
    other: str = THE_REFERENCE,
) -> Verdict:
    """The verdict of a cell: integrity first, then the worst of the readings of the render and against the reference.

    A residual is judged against the spread of the takes where that is greater than its limit: an effect that is never
    the same twice cannot be held to nulling.

    Args:
        render: integrity and levels of the render, against its stimulus.
        comparison: readings against the reference; None where none is approved: what needs none is judged all the same.
        limits: by measure.
        other: how what it was compared with is called.
    """
    faults = [r for r in _overall(render, UNFIT) if judge(r, limits.get(r.measure, _default(r))) == "broken"]
    if faults:
        names = sorted((r.measure for r in faults), key=list(UNFIT).index)
        first = next(r for r in faults if r.measure == names[0])
        return Verdict("Fail", f"{UNFIT[names[0]]}: {figure(first)}", 1.0, tuple(names), unfit=True)
    if comparison is not None and value_of(comparison, "identical") == 1.0:
        return Verdict("Pass", f"Identical to {other}")
    spread = value_of(render, "take_spread")
    held = _allowing(limits, spread)
    compared = [] if comparison is None else _overall(comparison, held)
    known = {r.measure for r in compared} | set(UNFIT)
    limited = compared + [r for r in _overall(render, held) if r.measure not in known]
    ink = max((ink_of(r, held[r.measure]) for r in limited), default=0.0)
    judged = [(r, judge(r, held[r.measure])) for r in limited]
    broken = sorted((r for r, j in judged if j == "broken"), key=lambda r: -ink_of(r, held[r.measure]))
    if broken:
        why = "; ".join(f"{phrase(r.measure, other)}: {figure(r)}" for r in broken)
        return Verdict("Fail", why, ink, tuple(r.measure for r in broken))
    unknown = [r for r, j in judged if j == "unknown"]
    if unknown:
        title = find_measure(unknown[0].measure).title
        return Verdict("No reading", f"{title}: {unknown[0].why}", ink, tuple(r.measure for r in unknown))
    if comparison is None:
        return Verdict("Waiting", NO_REFERENCE) if needs_comparing(limits) else Verdict("Pass", NOT_COMPARED, ink)
    left = next((r for r in comparison if (r.measure, r.channel) == ("residual_rms", "all")), None)
    residual = None if left is None else left.value
    if left is not None and residual is None and left.reason in _NOTHING_LEFT:
        return Verdict("Pass", "The difference is digital silence")
    if left is None or residual is None:
        why = "nothing was measured" if left is None else left.why or "no reading"
        return Verdict("No reading", f"{find_measure('residual_rms').title}: {why}", ink, ("residual_rms",))
    if residual <= FLOAT_FLOOR:
        return Verdict("Pass", "Nothing above the rounding of a float file")
    if spread is not None and residual <= spread + _TAKE_MARGIN:
        why = f"No further from {other} than its takes are from each other: residual {number(residual, '.1f')} dBFS"
        return Verdict("Pass", why)
    return Verdict("Changed", f"Within limits, but not the same: residual {number(residual, '.1f')} dBFS", ink)


def _allowing(limits: Mapping[str, Limit], spread: float | None) -> Mapping[str, Limit]:
    """The limits, with that of the residual no lower than the spread of the takes and a margin for one take more."""
    limit = limits.get("residual_rms")
    if spread is None or limit is None or limit.at_most is None:
        return limits
    return {**limits, "residual_rms": Limit(limit.at_least, max(limit.at_most, spread + _TAKE_MARGIN))}


def ink_of(reading: Reading, limit: Limit) -> float:
    """How full a reading makes its cell: INK_AT_LIMIT at its limit, and a decibel more for a decibel beyond it.

    Measures in decibels of full scale count from their limit; others by 20·log10 of the value over its limit.
    """
    if reading.value is None:
        return 0.0
    if find_measure(reading.measure).unit.startswith("dBFS") and limit.at_most is not None:
        excess = reading.value - limit.at_most
    else:
        bound = limit.at_most if reading.value > 0 or limit.at_least is None else limit.at_least
        if bound is None or reading.value == 0.0:
            excess = -INK_RANGE if judge(reading, limit) != "broken" else INK_RANGE
        else:
            excess = 20 * math.log10(abs(reading.value / bound)) if bound else INK_RANGE
    if judge(reading, limit) == "broken":
        excess = max(excess, 0.0)
    return min(1.0, max(0.0, INK_AT_LIMIT + excess / INK_RANGE))


def figure(reading: Reading) -> str:
    """A reading as it stands in a sentence: value with its sign and unit, or the reason for none."""
    measure = find_measure(reading.measure)
    if reading.value is None:
        return reading.why or "no reading"
    signed = "+" if measure.limit is not None and measure.limit.at_least is not None else ""
    return f"{number(reading.value, f'{signed}.{measure.decimals}f')} {measure.unit}".rstrip()


def _overall(readings: Sequence[Reading], measures: Mapping[str, object]) -> list[Reading]:
    return [r for r in readings if r.channel == "all" and r.measure in measures]


def _default(reading: Reading) -> Limit:
    return find_measure(reading.measure).limit or Limit()
