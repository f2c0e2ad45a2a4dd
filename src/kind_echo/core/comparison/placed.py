"""Pairs without a delay: silence, one steady tone, what comes again, what is one sound all the same."""

from concurrent.futures import Executor
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from kind_echo.core import undoing
from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import PartSource, Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.causes.explanation import explain
from kind_echo.core.comparison.rest import lengths_of
from kind_echo.core.delays.periods import is_steady_tone
from kind_echo.core.registry.numbers import number
from kind_echo.core.undoing.undone import Undone

if TYPE_CHECKING:
    from kind_echo.core.undoing.placing import Place

_MAY_BE_MOVED = {"unrelated", "unexplained", "level_control", "polarity", "wander"}


@dataclass(frozen=True)
class Placed:
    """A pair with a delay that its causes are told at.

    Attributes:
        undone: what became of a tone; the rest is to be explained without it.
        is_steady: whether the reference comes again all along, so that much fits it a little.
        is_done: whether there is nothing further to look for.
    """

    known: ComparedFacts
    explained: Explained
    undone: Undone | None = None
    is_done: bool = False
    is_steady: bool = False


def place(reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, pool: Executor) -> Placed:
    """A pair laid where it fits; see `Placed`."""
    placed = _place(reference, lay, known, explained, pool)
    return replace(placed, is_steady=known.no_delay == "periodic")


def _place(reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, pool: Executor) -> Placed:
    """A pair that has no delay, or an inverted one that an upright one may stand for, explained where it fits."""
    said = {cause.cause for cause in explained.causes}
    plain = lay.at(Alignment())
    if undoing.is_constant(reference, plain):
        return Placed(
            known,
            replace(explained, causes=[*undoing.causes_from_nothing(reference, plain), *lengths_of(explained)]),
            is_done=True,
        )
    if not explained.is_deep and said & _MAY_BE_MOVED and known.no_delay != "periodic":
        for lag in sorted({round(known.delay or 0.0), 0}):
            hertz = undoing.shift_of_frequencies(reference, lay.render, lag)
            if hertz is not None:
                return Placed(known, replace(explained, causes=_moved(hertz, explained)), is_done=True)
    if known.delay is not None:
        if not {"delay", "polarity"} <= said or known.drift:
            return Placed(known, explained)
        found = undoing.find_place(reference, lay.render)
        return Placed(known, explained) if found is None else _told(reference, lay, known, explained, found, pool)
    if known.drift:
        return Placed(known, explained)
    if known.no_delay == "periodic" and is_steady_tone(reference):
        undone = undoing.find_tone_change(reference, lay.render)
        still = _at(reference, lay, known, explained, 0.0, pool)
        moved = undone is not None and any(cause.cause == "delay" for cause in undone.causes)
        filtered = any(cause.cause == "filter" for cause in still.explained.causes)  # of one tone none can be told
        if still.explained.is_deep and not moved and not filtered:
            return still
        if undone is not None:
            return Placed(known, explained, undone)
        found = undoing.find_place(reference, lay.render)
        return still if found is None else _told(reference, lay, known, explained, found, pool)
    found = undoing.find_place(reference, lay.render)
    if found is not None:
        return _told(reference, lay, known, explained, found, pool)
    if known.no_delay != "unrelated":
        return Placed(known, explained)
    same = undoing.find_sameness(reference, lay.render)
    if same is None:
        return Placed(known, explained)
    if same.hertz:
        return Placed(known, replace(explained, causes=_moved(same.hertz, explained)), is_done=True)
    return _at(reference, lay, known, explained, float(same.lag), pool)


def _moved(hertz: float, explained: Explained) -> list[Cause]:
    why = f"the same sound with its frequencies moved by {number(hertz, '+.2f')} Hz"
    return [Cause("unexplained", why=why), *lengths_of(explained)]


def _told(
    reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, found: "Place", pool: Executor
) -> Placed:
    """The pair at a place; where others are as good, its delay says so."""
    whole = round(found.delay)
    if whole == 0:
        return _at(reference, lay, known, explained, found.delay, pool)
    why = None if found.period is None else f"or any whole periods of {found.period:.0f} samples more"
    late = Cause("delay", amount=found.delay, unit="samples", why=why)
    first, last = max(0, whole), min(lay.render.frames, reference.frames + whole)
    parts = PartSource(reference, first - whole, last - whole), PartSource(lay.render, first, last)
    return Placed(known, explained, Undone([late], *parts, off=0.0, period=found.period))


def _at(
    reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, delay: float, pool: Executor
) -> Placed:
    known = replace(known, delay=delay, no_delay=None)
    return Placed(known, replace(explain(reference, lay, known, pool), clicks=explained.clicks))
