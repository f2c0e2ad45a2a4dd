"""A change that begins or ends within the file: where, so that the part that has it is explained by itself."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource
from kind_echo.core.audio.source import PartSource, Source
from kind_echo.core.undoing.undone import FrameSums, Undone, frame_sums

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class JudgingSwitches:
    """When a part of a file is told to differ by itself: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        frame_samples: that are judged together.
        sounds: of the mean power, under which a frame tells nothing.
        same: of its power, under which a frame does not differ.
        least: share of the frames that sound, of either part.
        differs: share of the frames of the one part that must differ.
        margin: frames beside an edge that tell nothing of the part.
        strays: frames of the other part that may.
    """

    frame_samples: int = 512
    sounds: float = 1e-4
    same: float = 1e-6
    least: float = 0.1
    differs: float = 0.8
    margin: int = 2048
    strays: int = 1


SWITCHES = JudgingSwitches()


def find_switch(reference: Source, aligned: AlignedSource) -> Undone | None:
    """The part of a pair that differs where the rest is the same but for a gain; None where all of it differs."""
    sums = frame_sums(reference, aligned, SWITCHES.frame_samples)
    if sums is None:
        return None
    differs, sounds, gains = _differing(sums)
    told = differs[sounds]
    places = np.flatnonzero(sounds)
    if len(told) < 32:
        return None
    size, total = sums.size, len(told)
    before = np.concatenate([[0], np.cumsum(told)])
    edge = int(np.argmin(before[:-1] - (np.arange(total) - before[:-1])))  # the same before, different after
    if _parts(told[:edge], told[edge:], total):
        changed = _changed_about(reference, aligned, sums.first + int(places[edge]) * size, gains)
        return _part(reference, aligned, int(changed[0]), reference.frames) if len(changed) else None
    edge = int(np.argmax(before[:-1] - (np.arange(total) - before[:-1])))
    if _parts(told[edge:], told[:edge], total):
        changed = _changed_about(reference, aligned, sums.first + int(places[edge]) * size, gains)
        return _part(reference, aligned, 0, int(changed[-1]) + 1) if len(changed) else None
    return None


def _changed_about(reference: Source, aligned: AlignedSource, edge: int, gains: Floats) -> NDArray[np.int64]:
    """The frames about an edge in which the render is not a gain times the reference."""
    lo, hi = max(0, edge - SWITCHES.frame_samples), min(reference.frames, edge + SWITCHES.frame_samples)
    x = gains * reference.read(lo, hi)
    left = np.square(aligned.read(lo, hi) - x).max(axis=1)
    return lo + np.flatnonzero(left > SWITCHES.same * float(np.square(x).max(initial=0.0)))


def _differing(sums: FrameSums) -> tuple[NDArray[np.bool_], NDArray[np.bool_], Floats]:
    """Which frames differ, which sound, and the gain of each channel in those that do not differ."""
    gains = np.ones(len(sums.own))
    differs = np.zeros(sums.own.shape[1], bool)
    sounds = np.zeros(sums.own.shape[1], bool)
    for c, (own, cross, other) in enumerate(zip(sums.own, sums.cross, sums.other, strict=True)):
        loud = own > SWITCHES.sounds * own.mean()
        if not loud.any() or own.mean() <= 0.0:
            continue
        fits = np.divide(cross**2, own * other, out=np.zeros_like(own), where=own * other > 0.0)
        best = loud & (fits >= np.quantile(fits[loud], 1.0 - SWITCHES.least))
        gain = gains[c] = float(cross[best].sum() / own[best].sum())
        differs |= loud & (other - 2 * gain * cross + gain**2 * own > SWITCHES.same * gain**2 * own)
        sounds |= loud
    return differs, sounds, gains


def _parts(same: NDArray[np.bool_], different: NDArray[np.bool_], total: int) -> bool:
    """Whether the one part is the same nearly everywhere, and the other different in most places."""
    if min(len(same), len(different)) < SWITCHES.least * total:
        return False
    return bool(same.sum() <= SWITCHES.strays and different.mean() >= SWITCHES.differs)


def _part(reference: Source, aligned: AlignedSource, first: int, last: int) -> Undone | None:
    shift = aligned.alignment.shift
    lo, hi = max(first, -shift, 0), min(last, reference.frames, aligned.render.frames - shift)
    if hi - lo < 32 * SWITCHES.frame_samples:
        return None
    start, length = lo / reference.rate, None if last == reference.frames else (hi - lo) / reference.rate
    # What a filter makes of what was before is not in the part.
    lo, hi = lo + (SWITCHES.margin if first > 0 else 0), hi - (SWITCHES.margin if last < reference.frames else 0)
    parts = PartSource(reference, lo, hi), PartSource(aligned.render, lo + shift, hi + shift)
    return Undone([], *parts, off=0.0, start=start, length=length)
