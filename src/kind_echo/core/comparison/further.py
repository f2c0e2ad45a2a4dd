"""Causes that hold in time or between channels: looked for where the usual ones leave something, undone, and the rest
explained anew.
"""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from typing import Protocol

import numpy as np

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import ArraySource, Source, blocks
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.comparison.placed import place
from kind_echo.core.registry.readings import Curve
from kind_echo.core.undoing.chords import find_filter_of_tones
from kind_echo.core.undoing.echoes import find_echo
from kind_echo.core.undoing.jumps import find_jumps
from kind_echo.core.undoing.level_over_time import find_motion
from kind_echo.core.undoing.lines import find_lines, is_tonal
from kind_echo.core.undoing.mixing import find_mix
from kind_echo.core.undoing.switching import find_switch
from kind_echo.core.undoing.undone import Undone
from kind_echo.core.undoing.wandering import find_wander

DEEPEST = 3
"""Changes that are undone one in the other."""

_SHORT_FRAMES, _LONG_FRAMES = 1 << 17, 1 << 18  # in which a copy is sought that a filter may be, and that none is
_LONGEST = 1 << 25  # samples of a reference: 5.8 minutes of two channels at 48 kHz
_MOST_CHANNELS = 8
_MOVES = ("delay", "drift", "time_jump", "gain", "channel_gain", "gain_motion", "wander")
_NOISE_ALONE = {"noise", "delay", "gain", "channel_gain", "polarity", "dc"}
_LOUD_NOISE = -50.0  # dBFS
_SURE_DB = 15.0  # that jumps take off which are looked for before all else
_WELL_DB = 30.0  # that a change takes off, after which what is left is how well it was told
_LOOKED_AT = 1 << 20  # frames of a reference from which it is told what it is
_FRAME, _SOUNDS, _SPARSE = 256, 1e-6, 0.05  # samples; of the greatest power; share of them that sound in clicks
_OF_THE_PLACE = ("none", "unrelated", "length")  # of a pair that was laid in another place
_BESIDE_ALIASES = ("gain", "channel_gain", "delay", "polarity", "dc")  # all else orders over the last one look like
_CURVES = ("filter_", "output_over_input", "gain_over_time")
_HELD_FRAMES = 1 << 22  # samples of a changed reference, up to which it is made once and held


@dataclass(frozen=True)
class _Sound:
    """Whether a reference is silent nearly everywhere, as clicks are; whether it is a sum of one or two tones."""

    is_sparse: bool
    is_tonal: bool


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


def explain_further(
    reference: Source,
    lay: Aligner,
    known: ComparedFacts,
    explained: Explained,
    again: Again,
    pool: Executor,
    skip: Found,
) -> Explained:
    """What was explained, or what is better explained with a change in time or between channels undone.

    Args:
        skip: what was undone already, which is not looked for again.
    """
    if any(cause.cause in ("none", "silent", "non_finite") for cause in explained.causes):
        return explained
    if reference.frames * reference.channels > _LONGEST or reference.channels > _MOST_CHANNELS:
        return explained  # each look reads all of it, several times, and holds a part of every channel
    kind = _kind_of(reference)
    if "filter" not in skip:
        undone = find_filter_of_tones(reference, lay.render)
        if undone is not None:
            return _with(explained, undone, again(_held(undone.reference), undone.render, skip | {"filter"}))
    if "time_jump" not in skip and not explained.is_deep and (kind.is_tonal or known.delay is None):
        # Of tones, and where no delay holds for all of it, much else fits a little.
        undone = _sought(lambda: find_jumps(reference, lay.render, None))
        if undone is not None and undone.off >= _SURE_DB:
            rest = again(_held(undone.reference), undone.render, skip | {"time_jump"})
            if rest.is_deep or undone.off >= _WELL_DB:
                return _with(explained, undone, rest)
    placed = place(reference, lay, known, explained, pool)
    known, explained = placed.known, placed.explained
    if placed.is_done or (known.drift and explained.is_deep):
        return explained
    if placed.undone is not None:
        return _with(explained, placed.undone, again(_held(placed.undone.reference), placed.undone.render, skip))
    otherwise: Explained | None = None
    for undone in _undone(reference, lay, known, explained, kind, skip):
        rest = again(_held(undone.reference), undone.render, skip | {undone.kind})
        # Tones fit many a change a little; lines speak for themselves.
        tones = (placed.is_steady or kind.is_tonal) and undone.kind != "added_tone"
        doubtful = explained.is_deep or tones
        if doubtful and not rest.is_deep and undone.off < _WELL_DB:
            continue
        if any(cause.cause == "unrelated" for cause in rest.causes):
            continue
        causes = [cause for cause in rest.causes if not _is_rest(cause, undone, rest)]
        if undone.start is not None:
            causes = _placed(causes, undone)
            if not causes or any(cause.cause == "unexplained" for cause in causes):
                continue
        found = replace(explained, causes=undone.causes + causes, curves=_explaining(rest), is_deep=rest.is_deep)
        if undone.start is not None and any(cause.cause in _MOVES for cause in causes):
            otherwise = found  # what is late or softer from a place on is a jump or a step
            continue
        return found
    if otherwise is not None:
        return otherwise
    if placed.is_steady and _is_loud(explained):
        why = "a steady sound cannot tell what is left"
        return replace(explained, causes=[Cause("unexplained", why=why)])
    return explained


def _with(explained: Explained, undone: Undone, rest: Rest) -> Explained:
    """What was undone of all of a pair, and what else there is."""
    mine = {cause.cause for cause in undone.causes}
    causes = [
        one
        for one in rest.causes
        if one.cause not in _OF_THE_PLACE and one.cause not in mine and not _is_nothing(one, rest)
    ]
    lengths = [cause for cause in explained.causes if cause.cause == "length"]
    told = [*undone.causes, *causes, *lengths]
    return replace(explained, causes=told, curves=_explaining(rest), is_deep=rest.is_deep)


def _is_loud(explained: Explained) -> bool:
    """Whether what is left is called noise, and is about as loud as the sound."""
    return any(cause.cause == "noise" and (cause.amount or 0.0) > _LOUD_NOISE for cause in explained.causes)


def _undone(
    reference: Source, lay: Aligner, known: ComparedFacts, explained: Explained, kind: _Sound, skip: Found
) -> Iterator[Undone]:
    """Each change that was found, the plainest first; but for those that were undone before."""
    said = {cause.cause for cause in explained.causes}
    delay = None if known.drift else known.delay
    whole = 0 if delay is None else round(delay)
    fraction = 0.0 if delay is None or abs(delay - whole) < 1e-3 else delay - whole
    aligned = lay.at(Alignment(whole, fraction))
    told = delay is not None
    deep = explained.is_deep
    sparse, tonal = kind.is_sparse, kind.is_tonal
    # What is a codec's is explained; noise alone follows nothing that its sound does.
    follows = not deep and not sparse and "lossy" not in said and (tonal or not said <= _NOISE_ALONE)
    finders: list[tuple[CauseName, Callable[[], Undone | None]]] = []
    if told and tonal and "clipping" not in said:
        finders.append(("added_tone", lambda: find_lines(reference, aligned)))
    if told and not sparse and not tonal and (said & {"filter", "channel_gain"} or not deep):
        finders.append(("channel_mix", lambda: find_mix(reference, aligned)))
        most = _SHORT_FRAMES if deep else _LONG_FRAMES
        finders.append(("echo", lambda: find_echo(reference, aligned, most)))
    if told and not deep:
        finders.append(("none", lambda: find_switch(reference, aligned)))
    if follows:
        finders.append(("time_jump", lambda: find_jumps(reference, lay.render, whole)))
    if told and ("level_control" in said or follows):
        finders.append(("gain_motion", lambda: find_motion(reference, aligned)))
    if follows:
        finders.append(("wander", lambda: find_wander(reference, lay.render, delay)))
        finders.append(("time_jump", lambda: find_jumps(reference, lay.render, None)))
    if told and not deep and not tonal:
        finders.append(("added_tone", lambda: find_lines(reference, aligned)))
    for name, find in finders:
        found = None if name in skip else _sought(find)
        if found is not None:
            yield replace(found, kind=name)


def _sought(find: Callable[[], Undone | None]) -> Undone | None:
    """What a finder finds; nothing where its equations have no one solution, as of sounds that are one and the same."""
    try:
        return find()
    except np.linalg.LinAlgError:
        return None


def _placed(causes: list[Cause], undone: Undone) -> list[Cause]:
    """Causes of a part of the pair, with the place of the part."""
    begin = undone.start or 0.0
    return [
        replace(cause, start=begin, length=undone.length)
        if cause.start is None
        else replace(cause, start=begin + cause.start, why=None if cause.cause in ("gap", "click") else cause.why)
        for cause in causes
    ]


def _is_rest(cause: Cause, undone: Undone, rest: Rest) -> bool:
    """Whether a cause is what is left of a change that was undone: how well it was told itself."""
    if cause.cause in ("none", *(one.cause for one in undone.causes)):
        return True
    if any(one.cause == "aliasing" for one in undone.causes):
        return cause.cause not in _BESIDE_ALIASES
    if _is_nothing(cause, rest):
        return True
    of_itself = ("noise", "unexplained", *(("level_control",) if undone.kind == "gain_motion" else ()))
    return cause.cause in of_itself and undone.off >= _WELL_DB


def _is_nothing(cause: Cause, rest: Rest) -> bool:
    """Whether next to nothing is left."""
    return cause.cause == "unexplained" and rest.is_deep


def _kind_of(reference: Source) -> _Sound:
    powers = np.concatenate(
        [np.square(block).sum(axis=1) for _, block in blocks(reference, stop=min(reference.frames, _LOOKED_AT))]
    )
    frames = powers[: len(powers) // _FRAME * _FRAME].reshape(-1, _FRAME).sum(axis=1)
    sparse = bool(frames.any()) and float(np.mean(frames > _SOUNDS * frames.max())) < _SPARSE
    return _Sound(sparse, is_tonal(reference))


def _explaining(rest: Rest) -> dict[str, Curve]:
    """The curves of an explanation alone."""
    return {name: curve for name, curve in rest.curves.items() if name.startswith(_CURVES)}


def _held(source: Source) -> Source:
    """A source that was derived from another, made once where it is short."""
    if source.frames * source.channels > _HELD_FRAMES:
        return source
    samples = np.ascontiguousarray(source.read(0, source.frames).T)
    return ArraySource(samples.T, source.rate, source.half_step, source.rail)
