"""Causes that hold in time or between channels: looked for where the usual ones leave something, undone, and the rest
explained anew.
"""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import replace
from typing import Protocol

import numpy as np

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import ArraySource, Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.causes.explanation import explain
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve
from kind_echo.core.undoing.echoes import find_echo
from kind_echo.core.undoing.jumps import find_jumps
from kind_echo.core.undoing.level_over_time import find_motion
from kind_echo.core.undoing.lines import find_lines
from kind_echo.core.undoing.mixing import find_mix
from kind_echo.core.undoing.sameness import find_sameness
from kind_echo.core.undoing.switching import find_switch
from kind_echo.core.undoing.undone import Undone
from kind_echo.core.undoing.wandering import find_wander

DEEPEST = 3
"""Changes that are undone one in the other."""

_WELL_DB = 40.0  # that a change takes off, after which what is left is how well it was told
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


Again = Callable[[Source, Source], Rest]
"""Explains what is left of a difference."""


def explain_further(
    reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, again: Again, pool: Executor
) -> Explained:
    """What was explained, or what is better explained with a change in time or between channels undone."""
    if any(cause.cause in ("none", "silent", "non_finite") for cause in explained.causes):
        return explained
    if known.no_delay == "unrelated" and not known.drift:
        explained = _as_the_same(reference, lay, known, explained, pool)
    for undone in _undone(reference, lay, known, explained):
        rest = again(_held(undone.reference), undone.render)
        if explained.is_deep and not rest.is_deep:
            continue
        if any(cause.cause == "unrelated" for cause in rest.causes):
            continue
        causes = [cause for cause in rest.causes if not _is_rest(cause, undone)]
        if undone.start is not None:
            causes = _placed(causes, undone)
            if not causes or any(cause.cause == "unexplained" for cause in causes):
                continue
        return replace(explained, causes=undone.causes + causes, curves=_explaining(rest), is_deep=rest.is_deep)
    return explained


def _as_the_same(
    reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, pool: Executor
) -> Explained:
    """What is explained of two sounds that have no delay, and are one all the same; else what was explained."""
    same = find_sameness(reference, lay.render)
    if same is None:
        return explained
    if same.hertz:
        why = f"the same sound with its frequencies moved by {number(same.hertz, '+.2f')} Hz"
        return replace(explained, causes=[Cause("unexplained", why=why)])
    again = explain(reference, lay, replace(known, delay=float(same.lag), no_delay=None), pool)
    return replace(again, clicks=explained.clicks)


def _undone(reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained) -> Iterator[Undone]:
    """Each change that was found, the plainest first."""
    said = {cause.cause for cause in explained.causes}
    delay = None if known.drift else known.delay
    whole = 0 if delay is None else round(delay)
    fraction = 0.0 if delay is None or abs(delay - whole) < 1e-3 else delay - whole
    aligned = lay.at(Alignment(whole, fraction))
    told = delay is not None
    deep = explained.is_deep
    finders: list[Callable[[], Undone | None]] = []
    if told and (said & {"filter", "channel_gain"} or not deep):
        finders.append(lambda: find_mix(reference, aligned))
        finders.append(lambda: find_echo(reference, aligned))
    if told and ("level_control" in said or not deep):
        finders.append(lambda: find_motion(reference, aligned))
    if not deep:
        finders.append(lambda: find_wander(reference, lay.render, delay))
        finders.append(lambda: find_jumps(reference, lay.render, None if delay is None else whole))
    if told and not deep:
        finders.append(lambda: find_jumps(reference, lay.render, None))
        finders.append(lambda: find_lines(reference, aligned))
        finders.append(lambda: find_switch(reference, aligned))
    for find in finders:
        found = find()
        if found is not None:
            yield found


def _placed(causes: list[Cause], undone: Undone) -> list[Cause]:
    """Causes of a part of the pair, with the place of the part."""
    begin = undone.start or 0.0
    return [
        replace(cause, start=begin, length=undone.length)
        if cause.start is None
        else replace(cause, start=begin + cause.start)
        for cause in causes
    ]


def _is_rest(cause: Cause, undone: Undone) -> bool:
    """Whether a cause is what is left of a change that was undone: how well it was told itself."""
    if cause.cause in ("none", *(one.cause for one in undone.causes)):
        return True
    return cause.cause in ("noise", "unexplained") and undone.off >= _WELL_DB


def _explaining(rest: Rest) -> dict[str, Curve]:
    """The curves of an explanation alone."""
    return {name: curve for name, curve in rest.curves.items() if name.startswith(_CURVES)}


def _held(source: Source) -> Source:
    """A source that was derived from another, made once where it is short."""
    if source.frames * source.channels > _HELD_FRAMES:
        return source
    samples = np.ascontiguousarray(source.read(0, source.frames).T)
    return ArraySource(samples.T, source.rate, source.half_step, source.rail)
