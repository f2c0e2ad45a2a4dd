"""Causes that hold in time or between channels: looked for where the usual ones leave something, undone, and the rest
explained anew.
"""

from collections.abc import Callable, Iterator
from concurrent.futures import Executor
from dataclasses import replace

import numpy as np

from kind_echo.core import undoing
from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.comparison.on_signals import BESIDE_ALIASES, FAR_SAMPLES, WELL_DB, Sound, sound_of, told_by_signal
from kind_echo.core.comparison.placed import place
from kind_echo.core.comparison.rest import (
    Again,
    Found,
    Rest,
    explaining,
    is_late_from_a_place_on,
    is_nothing,
    rest_of,
    with_rest,
)
from kind_echo.core.undoing.undone import Undone

_SHORT_FRAMES, _LONG_FRAMES = 1 << 17, 1 << 18  # in which a copy is sought that a filter may be, and that none is
_LONGEST_SAMPLES = 1 << 25  # samples of a reference: 5.8 minutes of two channels at 48 kHz
_MOST_CHANNELS = 8
_MOVES = ("delay", "drift", "time_jump", "gain", "channel_gain", "gain_motion", "wander")
_NOISE_ALONE = {"noise", "delay", "gain", "channel_gain", "polarity", "dc"}
_MUCH_DB = 15.0  # that a change takes off which is told though something is left
_OF_PART_DB = 20.0  # that a cause takes off a part of a file, where the rest is the same
_NO_LEVEL_DB = 0.05  # over which a gain stands still
_LOUD_NOISE_DBFS = -50.0  # dBFS


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
    if reference.frames * reference.channels > _LONGEST_SAMPLES or reference.channels > _MOST_CHANNELS:
        return explained  # each look reads all of it, several times, and holds a part of every channel
    kind = sound_of(reference)
    told = told_by_signal(reference, lay, known, explained, kind, again, skip)
    if told is not None:
        return told
    placed = place(reference, lay, known, explained, pool)
    known, explained = placed.known, placed.explained
    if placed.is_done or (known.drift and explained.is_deep):
        return explained
    if placed.undone is not None:
        return with_rest(explained, placed.undone, rest_of(placed.undone, again, skip))
    otherwise: Explained | None = None
    mostly: Explained | None = None
    partly: Explained | None = None
    for undone in _undone(reference, lay, known, explained, (kind, placed.is_steady), skip):
        rest = rest_of(undone, again, skip | {undone.kind})
        # Tones fit many a change a little; lines speak for themselves.
        tones = (placed.is_steady or kind.is_tonal) and undone.kind != "added_tone"
        doubtful = explained.is_deep or tones
        of_part = undone.start is not None and any((one.takes_off or 0.0) >= _OF_PART_DB for one in rest.causes)
        if doubtful and not rest.is_deep and undone.off < WELL_DB and not of_part:
            continue
        if any(cause.cause in ("unrelated", "silent") for cause in rest.causes):
            continue
        causes = [cause for cause in rest.causes if not _is_rest(cause, undone, rest)]
        if undone.start is not None:
            # A filter of a part is known less well than one of the whole: what it leaves is no noise for sure.
            causes = _placed([one for one in causes if not (of_part and one.cause == "noise")], undone)
            if not causes or any(cause.cause == "unexplained" for cause in causes):
                continue
        found = replace(explained, causes=undone.causes + causes, curves=explaining(rest), is_deep=rest.is_deep)
        if undone.start is not None and any(_may_move(cause) for cause in causes):
            otherwise = found  # what is late or softer from a place on is a jump or a step
            continue
        if _is_part(undone, causes):
            # Another change may explain all.
            if undone.off >= _MUCH_DB and undone.start is None:
                mostly = mostly or found
            partly = partly or found
            continue
        return found
    for best in (mostly, otherwise, partly):
        if best is not None:
            return best
    if placed.is_steady and _is_loud(explained):
        why = "a steady sound cannot tell what is left"
        return replace(explained, causes=[Cause("unexplained", why=why)])
    return explained


def _is_part(undone: Undone, causes: list[Cause]) -> bool:
    """Whether what was found leaves something, or something that it should not leave."""
    left = {cause.cause for cause in causes}
    if undone.kind == "wander" and "polarity" in left:
        return True  # of a sound that is turned on and on
    if undone.kind == "gain_motion" and is_late_from_a_place_on(causes):
        return True
    return undone.off < WELL_DB and "unexplained" in left


def _may_move(cause: Cause) -> bool:
    """Whether a cause of a part may be one of the whole, that moves."""
    return cause.cause in _MOVES or (cause.cause == "level_control" and abs(cause.amount or 0.0) < _NO_LEVEL_DB)


def _is_loud(explained: Explained) -> bool:
    """Whether what is left is called noise, of the render alone, and is about as loud as the sound."""
    noise = [cause for cause in explained.causes if cause.cause == "noise" and cause.sides is None]
    return any((cause.amount or 0.0) > _LOUD_NOISE_DBFS for cause in noise)


def _undone(
    reference: Source,
    lay: Aligner,
    known: ComparedFacts,
    explained: Explained,
    sound: tuple[Sound, bool],
    skip: Found,
) -> Iterator[Undone]:
    """Each change that was found, the plainest first; but for those that were undone before.

    Args:
        sound: what the reference is, and whether it comes again all along, so that a copy of it may be a filter.
    """
    kind, steady = sound
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
    if told and tonal and not said & {"clipping", "quantisation"}:
        finders.append(("added_tone", lambda: undoing.find_lines(reference, aligned)))
    if told and not sparse and not steady and (said & {"filter", "channel_gain"} or not deep):
        finders.append(("channel_mix", lambda: undoing.find_mix(reference, aligned)))
        most = _SHORT_FRAMES if deep else _LONG_FRAMES
        if not (tonal and kind.is_level):  # of what stands still a copy is a gain and a delay
            finders.append(("echo", lambda: undoing.find_echo(reference, aligned, most)))
    if told and not deep:
        finders.append(("none", lambda: undoing.find_switch(reference, aligned)))
    if follows:
        finders.append(("time_jump", lambda: undoing.find_jumps(reference, lay.render, whole)))
    if told and ("level_control" in said or follows):
        finders.append(("gain_motion", lambda: undoing.find_motion(reference, aligned)))
    if follows:
        near = None if delay is None or abs(delay) > FAR_SAMPLES else delay
        finders.append(("wander", lambda: undoing.find_wander(reference, lay.render, near)))
        finders.append(("time_jump", lambda: undoing.find_jumps(reference, lay.render, None)))
    if told and not deep and not tonal:
        finders.append(("added_tone", lambda: undoing.find_lines(reference, aligned)))
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
        return cause.cause not in BESIDE_ALIASES
    if is_nothing(cause, rest):
        return True
    if undone.kind == "wander" and cause.cause == "delay":
        return abs(cause.amount or 0.0) <= max((one.amount or 0.0) for one in undone.causes)  # where it is at rest
    of_itself = ("noise", "unexplained", *(("level_control", "non_linear") if undone.kind == "gain_motion" else ()))
    return cause.cause in of_itself and undone.off >= WELL_DB
