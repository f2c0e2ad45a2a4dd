"""What is explained of a pair in which a change is undone already, and how the two come together."""

from collections.abc import Callable
from dataclasses import replace
from typing import Protocol

import numpy as np

from kind_echo.core.audio.source import ArraySource, Source
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.causes.explained import Explained
from kind_echo.core.registry.readings import Curve
from kind_echo.core.undoing.undone import Undone

_OF_THE_PLACE = ("none", "unrelated", "length")  # of a pair that was laid in another place
_ADD_UP = {"delay": 0.01, "gain": 0.001}
"""Causes of which the rest may have some more: and how little of both together is nothing, in samples and dB."""

_CURVES = ("filter_", "output_over_input", "gain_over_time")
_HELD_FRAMES = 1 << 22  # samples of a changed reference, up to which it is made once and held


class Rest(Protocol):
    """What is explained of a pair in which something is undone."""

    @property
    def causes(self) -> list[Cause]: ...  # noqa: D102
    @property
    def curves(self) -> dict[str, Curve]: ...  # noqa: D102
    @property
    def is_deep(self) -> bool: ...  # noqa: D102


Found = frozenset[CauseName]
"""Kinds of changes that are undone already."""

Again = Callable[[Source, Source, Found], Rest]
"""Explains what is left of a difference."""


def rest_of(undone: Undone, again: Again, skip: Found) -> Rest:
    """What is explained with a change undone."""
    return again(_held(undone.reference), undone.render, skip)


def with_rest(explained: Explained, undone: Undone, rest: Rest) -> Explained:
    """What was undone of all of a pair, and what else there is."""
    mine = {cause.cause for cause in undone.causes}
    causes = [
        one
        for one in rest.causes
        if one.cause not in _OF_THE_PLACE and one.cause not in mine and not is_nothing(one, rest)
    ]
    # A delay that wanders has none at which it is at rest.
    depth = max((one.amount or 0.0 for one in causes if one.cause == "wander"), default=-1.0)
    found = [one for one in _together(undone, rest) if one.cause != "delay" or abs(one.amount or 0.0) > depth]
    told = [*found, *causes, *lengths_of(explained)]
    return replace(explained, causes=told, curves=explaining(rest), is_deep=rest.is_deep)


def _together(undone: Undone, rest: Rest) -> list[Cause]:
    """What was undone, with what the rest has of the same: before a jump, or without a gap, there may be none of it."""
    found = []
    for one in undone.causes:
        beside = sum(other.amount or 0.0 for other in rest.causes if other.cause == one.cause)
        if one.cause not in _ADD_UP or not beside:
            found.append(one)
            continue
        total = (one.amount or 0.0) + beside
        if undone.period is not None and one.cause == "delay":
            total -= undone.period * round(total / undone.period)
        if abs(total) >= _ADD_UP[one.cause]:
            found.append(replace(one, amount=total))
    return found


def lengths_of(explained: Explained) -> list[Cause]:
    """By how much the sides differ in length, as a cause."""
    return [cause for cause in explained.causes if cause.cause == "length"]


def is_late_from_a_place_on(causes: list[Cause]) -> bool:
    """Whether a part of a pair is late, and so may fit worse at the level of the whole."""
    return any(cause.cause in ("delay", "polarity", "time_jump") and cause.start is not None for cause in causes)


def is_nothing(cause: Cause, rest: Rest) -> bool:
    """Whether next to nothing is left."""
    return cause.cause == "unexplained" and rest.is_deep


def explaining(rest: Rest) -> dict[str, Curve]:
    """The curves of an explanation alone."""
    return {name: curve for name, curve in rest.curves.items() if name.startswith(_CURVES)}


def _held(source: Source) -> Source:
    """A source that was derived from another, made once where it is short."""
    if source.frames * source.channels > _HELD_FRAMES:
        return source
    samples = np.ascontiguousarray(source.read(0, source.frames).T)
    return ArraySource(samples.T, source.rate, source.half_step, source.rail)
