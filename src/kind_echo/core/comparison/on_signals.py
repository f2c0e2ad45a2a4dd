"""What test signals tell by themselves: tones, chords, bursts, sweeps; looked for before what any sound may tell."""

from dataclasses import dataclass, replace

import numpy as np

from kind_echo.core import undoing
from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import Source, blocks
from kind_echo.core.causes.excerpts import is_sweep
from kind_echo.core.causes.explained import ComparedFacts, Explained
from kind_echo.core.comparison.rest import Again, Found, is_late_from_a_place_on, lengths_of, rest_of, with_rest

BESIDE_ALIASES = ("gain", "channel_gain", "delay", "polarity", "dc")
"""Causes that are told beside aliases; orders over the last one look like all others."""

WELL_DB = 30.0
"""Decibels that a change takes off, after which what is left is how well it was told."""

FAR_SAMPLES = 1024  # of a delay that does not explain all
_BESIDE_GAPS_DB = 60.0  # the same, where there are gaps, which may be all
_SURE_DB = 15.0  # that jumps take off which are looked for before all else
_LOOKED_AT_FRAMES = 1 << 20  # frames of a reference from which it is told what it is
# Times the power of its tenth part, that nine tenths of a sound stay under which is as loud throughout
_LEVEL_POWER_RATIO = 2.0
_FRAME_SAMPLES, _SOUNDING_SHARE, _SPARSE_SHARE = (
    256,
    1e-6,
    0.05,
)  # samples; of the greatest power; share of them that sound in clicks


@dataclass(frozen=True)
class Sound:
    """What a reference is.

    Attributes:
        is_sparse: silent nearly everywhere, as clicks are.
        is_tonal: a sum of one or two tones.
        is_sweep: each frequency once.
        is_level: as loud throughout.
    """

    is_sparse: bool
    is_tonal: bool
    is_sweep: bool
    is_level: bool


def sound_of(reference: Source) -> Sound:
    """What a reference is, by its beginning."""
    powers = np.concatenate(
        [np.square(block).sum(axis=1) for _, block in blocks(reference, stop=min(reference.frames, _LOOKED_AT_FRAMES))]
    )
    frames = powers[: len(powers) // _FRAME_SAMPLES * _FRAME_SAMPLES].reshape(-1, _FRAME_SAMPLES).sum(axis=1)
    sparse = bool(frames.any()) and float(np.mean(frames > _SOUNDING_SHARE * frames.max())) < _SPARSE_SHARE
    level = bool(frames.any()) and float(np.quantile(frames, 0.9)) <= _LEVEL_POWER_RATIO * float(
        np.quantile(frames, 0.1)
    )
    return Sound(sparse, undoing.is_tonal(reference), is_sweep(reference), level)


def told_by_signal(
    reference: Source,
    lay: Aligner,
    known: ComparedFacts,
    explained: Explained,
    kind: Sound,
    again: Again,
    skip: Found,
) -> Explained | None:
    """A pair explained by what its test signal tells; None where it tells nothing, or is none."""
    bends = explained.is_deep and any(cause.cause in ("non_linear", "clipping") for cause in explained.causes)
    if not skip & {"filter", "added_tone"} and not bends:  # tones that were put in are of no filter
        undone = undoing.find_change_of_tones(reference, lay.render, plain=not explained.is_deep)
        if undone is not None:
            return with_rest(explained, undone, rest_of(undone, again, skip | {"filter"}))
    if explained.is_deep:
        return None
    if kind.is_tonal and "gain_motion" not in skip:
        undone = undoing.find_motion(reference, lay.at(Alignment(round(known.delay or 0.0))))
        rest = None if undone is None else rest_of(undone, again, skip | {"gain_motion"})
        if undone is not None and rest is not None and rest.is_deep and not is_late_from_a_place_on(rest.causes):
            return with_rest(explained, undone, rest)
    if "time_jump" not in skip and (kind.is_tonal or known.delay is None or abs(known.delay) > FAR_SAMPLES):
        # Of tones, and where no delay holds for all of it, much else fits a little; a far delay may be a later note's.
        undone = undoing.find_jumps(reference, lay.render, None)
        if undone is not None and undone.off >= (_BESIDE_GAPS_DB if known.gaps else _SURE_DB):
            rest = rest_of(undone, again, skip | {"time_jump"})
            if rest.is_deep or undone.off >= WELL_DB:
                return with_rest(explained, undone, rest)
    if skip:
        return None
    if kind.is_tonal and round(known.delay or 0.0) == 0:
        told = undoing.cause_at_edges(reference, lay.render)
        if told is not None:
            none: list[list[int]] = [[] for _ in range(reference.channels)]
            return replace(explained, causes=[told, *lengths_of(explained)], clicks=none, curves={})
    if kind.is_sweep and known.delay is not None:
        folds = undoing.folding_of_sweep(reference, lay.at(Alignment(round(known.delay))))
        if folds is not None:
            beside = [cause for cause in explained.causes if cause.cause in (*BESIDE_ALIASES, "length")]
            none = [[] for _ in range(reference.channels)]
            return replace(explained, causes=[folds, *beside], clicks=none)
    return None
