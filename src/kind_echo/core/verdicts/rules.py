"""The rules of verdicts: from readings and limits to a verdict, and how much ink a cell gets. No other module has any.

A cell is judged against its reference by `judge_cell`. Laid over something else, it is judged by `judge_unseen` where
that needs no samples, by `judge_samples` where samples were compared, and by `judge_rates` where rates differ.
"""

import math
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.measures import MEASURES, find_measure
from kind_echo.core.registry.readings import Reading, Reason, value_of
from kind_echo.core.verdicts.verdict import THE_REFERENCE, JudgedReading, Verdict

RULES_VERSION = 3
"""Of the rules in this module: raised when they change, so that no verdict by earlier rules is taken over."""

FLOAT_FLOOR = 20 * math.log10(2.0**-24)
"""dBFS; a residual below it is rounding."""

INK_RANGE = 144.0
"""Decibels from no ink to a full cell."""

INK_AT_LIMIT = 24.0 / INK_RANGE
"""Share of a cell that a reading just at its limit fills."""

_TAKE_MARGIN_DB = 3.0  # dB: the spread is the greatest of a few differences, and the next may be a little greater
# In a measure's own unit; readings at two rates that are no further apart are alike: this product's choice
_NEAR_UNITS = 0.1
_FULL_INK_UNITS = 12.0  # in a measure's own unit; readings at two rates that are so far apart fill a cell
_HOLD_ACROSS = ("integrity", "compare")  # families whose limits hold against another side as well
_NOTHING_LEFT: frozenset[Reason] = frozenset({"null", "identical"})  # a perfect null; else nothing was compared


@dataclass(frozen=True)
class Side:
    """What is known of a cell that is laid over another.

    Attributes:
        finished: nothing of it is under way.
        sha256: of its render; None where there is none.
        dropped: its audio is gone.
        verdict: its own, against its reference, as facts.
        measured: readings of all channels together, by measure.
    """

    id: int
    finished: bool
    unfit: bool
    sha256: str | None
    rate: int | None
    channels: int | None
    dropped: bool
    verdict: Verdict
    measured: Mapping[str, float]


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
    unfit = [key for key, measure in MEASURES.items() if measure.unfit]
    faults = [(r, limits.get(r.measure, r.of.limit or Limit())) for r in _overall(render, unfit)]
    faults = [(reading, limit) for reading, limit in faults if judge(reading, limit) == "broken"]
    if faults:
        faults.sort(key=lambda fault: unfit.index(fault[0].measure))
        return Verdict("Fail", "unfit", tuple(JudgedReading(*fault) for fault in faults), other, ink=1.0)
    if comparison is not None and value_of(comparison, "identical") == 1.0:
        return Verdict("Pass", "identical", other=other)
    spread = value_of(render, "take_spread")
    held = allowing_takes(limits, render)
    compared = [] if comparison is None else _overall(comparison, held)
    known = {r.measure for r in compared} | set(unfit)
    limited = compared + [r for r in _overall(render, held) if r.measure not in known]
    return _judge_limited(limited, held, other) or _within(limited, comparison, held, spread, other)


def _judge_limited(limited: Sequence[Reading], held: Mapping[str, Limit], other: str) -> Verdict | None:
    """The verdict where a limit is broken, or holds for what has no value; None where all limits are kept."""
    judged = [(JudgedReading(r, held[r.measure]), judge(r, held[r.measure])) for r in limited]
    ink = _greatest_ink(limited, held)
    broken = [found for found, judgement in judged if judgement == "broken"]
    if broken:
        broken.sort(key=lambda found: -ink_of(found.reading, held[found.reading.measure]))
        return Verdict("Fail", "limit broken", tuple(broken), other, ink)
    unknown = tuple(found for found, judgement in judged if judgement == "unknown")
    return Verdict("No reading", "no value", unknown, other, ink) if unknown else None


def _within(
    limited: Sequence[Reading],
    comparison: Sequence[Reading] | None,
    held: Mapping[str, Limit],
    spread: float | None,
    other: str,
) -> Verdict:
    """The verdict of a cell that keeps all its limits, by what the comparison leaves."""
    ink = _greatest_ink(limited, held)
    if comparison is None:
        if needs_comparing(held):
            return Verdict("Waiting", "no reference", other=other)
        return Verdict("Pass", "not compared", other=other, ink=ink)
    left = next((r for r in comparison if (r.measure, r.channel) == ("residual_rms", "all")), None)
    if left is None:
        return Verdict("No reading", "nothing measured", _no_residual(), other, ink)
    if left.value is None and left.reason in _NOTHING_LEFT:
        return Verdict("Pass", "null", other=other)
    if left.value is None:
        return Verdict("No reading", "nothing measured", (JudgedReading(left),), other, ink)
    if left.value <= FLOAT_FLOOR:
        return Verdict("Pass", "rounding", (JudgedReading(left),), other)
    if spread is not None and left.value <= spread + _TAKE_MARGIN_DB:
        return Verdict("Pass", "takes", (JudgedReading(left),), other)
    return Verdict("Changed", "changed", (JudgedReading(left),), other, ink)


def under_way(called: str = THE_REFERENCE) -> Verdict:
    """The verdict of a cell of which nothing is known yet."""
    return Verdict("Waiting", "under way", other=called)


def not_rendered(why: str) -> Verdict:
    """The verdict of a cell that could not be rendered, with what came of trying."""
    return Verdict("No reading", "not rendered", why=why)


def needs_comparing(limits: Mapping[str, Limit]) -> bool:
    """Whether limits wait for a reference: there are none, or all hold for what is told against one.

    Integrity is looked at in any case, and says nothing of how an effect sounds.
    """
    asked = [find_measure(key) for key in limits if find_measure(key).family != "integrity"]
    return not limits or (bool(asked) and all(measure.needs == "pair" for measure in asked))


def limits_across(limits: Mapping[str, Limit]) -> dict[str, Limit]:
    """Of a cell's limits those that hold as well where it is laid over something other than a reference."""
    return {key: limit for key, limit in limits.items() if find_measure(key).family in _HOLD_ACROSS}


def judge_unseen(cell: Side, other: Side | None, called: str) -> Verdict | None:
    """The verdict of a cell laid over another where nothing need be compared; None where something must be.

    That is the other side itself, a cell that is under way, one that is unfit, and one whose other side is missing or
    unfit.
    """
    if not cell.finished:
        return under_way(called)
    if cell.unfit or cell.sha256 is None:
        return replace(cell.verdict, ink=1.0 if cell.unfit else 0.0)
    if other is None:
        return Verdict("No reading", "no counterpart", _no_residual(), called)
    if other.id == cell.id:
        return Verdict("Pass", "itself", other=called)
    if other.unfit or other.sha256 is None:
        return Verdict("No reading", "other unfit", _no_residual(), called)
    return None


def judge_samples(
    cell: Side, other: Side, comparison: Sequence[Reading] | None, limits: Mapping[str, Limit], called: str
) -> Verdict:
    """The verdict of a cell by its samples beside another's, where both have a fit render.

    Args:
        comparison: readings of the pair; None while nobody has compared it.
        limits: of the cell.
        called: how the other side is called.
    """
    if cell.sha256 == other.sha256:
        return Verdict("Pass", "identical", other=called)
    if (cell.rate, cell.channels) != (other.rate, other.channels):
        return Verdict("No reading", "other format", _no_residual(), called)
    if comparison is None:
        if cell.dropped or other.dropped:
            return Verdict("No reading", "audio dropped", _no_residual(), called)
        return under_way(called)
    # No residual is held to less than the spread of the side whose takes are further apart.
    spreads = [side.measured["take_spread"] for side in (cell, other) if "take_spread" in side.measured]
    takes = [Reading("take_spread", "all", max(spreads))] if spreads else []
    return judge_cell(takes, comparison, limits_across(limits), called)


def judge_rates(cell: Side, other: Side, measure: Measure, called: str) -> Verdict:
    """The verdict of a cell by a reading beside that of another rate; the finding is their difference."""
    mine, theirs = cell.measured.get(measure.key), other.measured.get(measure.key)
    if mine is None or theirs is None:
        return Verdict("No reading", "one side only", (JudgedReading(Reading(measure.key, "all", None)),), called)
    off = JudgedReading(Reading(measure.key, "all", mine - theirs))
    if abs(mine - theirs) <= _NEAR_UNITS:
        return Verdict("Pass", "alike", (off,), called)
    return Verdict("Changed", "apart", (off,), called, ink=min(1.0, abs(mine - theirs) / _FULL_INK_UNITS))


def ink_of(reading: Reading, limit: Limit) -> float:
    """How full a reading makes its cell: INK_AT_LIMIT at its limit, and a decibel more for a decibel beyond it.

    Measures in decibels of full scale count from their limit; others by 20·log10 of the value over its limit.
    """
    if reading.value is None:
        return 0.0
    if reading.of.unit.startswith("dBFS") and limit.at_most is not None:
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


def _greatest_ink(readings: Iterable[Reading], limits: Mapping[str, Limit]) -> float:
    return max((ink_of(reading, limits[reading.measure]) for reading in readings), default=0.0)


def allowing_takes(limits: Mapping[str, Limit], render: Iterable[Reading]) -> Mapping[str, Limit]:
    """The limits, with that of the residual no lower than the spread of the takes and a margin for one take more."""
    limit, spread = limits.get("residual_rms"), value_of(render, "take_spread")
    if spread is None or limit is None or limit.at_most is None:
        return limits
    return {**limits, "residual_rms": Limit(limit.at_least, max(limit.at_most, spread + _TAKE_MARGIN_DB))}


def _no_residual() -> tuple[JudgedReading, ...]:
    return (JudgedReading(Reading("residual_rms", "all", None)),)


def _overall(readings: Iterable[Reading], measures: Iterable[str]) -> list[Reading]:
    wanted = set(measures)
    return [r for r in readings if r.channel == "all" and r.measure in wanted]
