"""A gain that moves with time: a step, a ramp, a fade or a swing, whatever the signal does meanwhile."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Derived, Samples, Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.causes.shares import fall
from kind_echo.core.undoing.gain_laws import (
    MOTION,
    Law,
    Moving,
    Track,
    fit_ramp,
    fit_steps,
    fit_swing,
    is_gap,
    stepping,
)
from kind_echo.core.undoing.undone import FrameSums, Undone, frame_sums

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class MovedSource(Derived):
    """A reference under a gain that moves, one law a channel; None where it does not."""

    laws: tuple[Law | None, ...]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        samples = self.source.read(start, stop).copy()
        times = np.arange(start, stop) / self.rate
        for c, law in enumerate(self.laws):
            if law is not None:
                samples[:, c] *= law(times)
        return samples


def find_motion(reference: Source, aligned: AlignedSource) -> Undone | None:
    """The gain that moves with time; None where there is none, or nothing tells."""
    sums = frame_sums(reference, aligned, MOTION.frame_samples)
    if sums is None or sums.own.shape[1] < 16:
        return None
    sums = _pooled(sums)
    found = [_to_the_sample(_of_channel(sums, c), reference, aligned, c, sums) for c in range(reference.channels)]
    if not any(found):
        return None
    moved = MovedSource(reference, tuple(None if one is None else one.law for one in found))
    off = fall(*(_left(side, aligned) for side in (reference, moved)))
    return Undone(_told(found, off), moved, aligned.render, off) if off >= MOTION.worth_db else None


def _left(reference: Source, aligned: AlignedSource) -> float:
    """What a gain leaves of a pair, all channels together."""
    sums = np.zeros((3, reference.channels))
    for _, x, y in rows_of_pair(reference, aligned):
        sums += [np.einsum("cf,cf->c", p, q) for p, q in ((x, x), (x, y), (y, y))]
    own, cross, other = sums
    return float((other - np.divide(cross**2, own, out=np.zeros_like(own), where=own > 0.0)).clip(min=0.0).sum())


def _pooled(sums: FrameSums) -> FrameSums:
    """With neighbours added up where there are very many frames."""
    while sums.own.shape[1] > MOTION.most_frames:
        count = sums.own.shape[1] // 2
        own, cross, other = (
            side[:, : 2 * count].reshape(len(side), count, 2).sum(axis=2) for side in (sums.own, sums.cross, sums.other)
        )
        sums = replace(sums, size=2 * sums.size, own=own, cross=cross, other=other)
    return sums


def _constant(sums: FrameSums, channel: int) -> float:
    own = float(sums.own[channel].sum())
    return float(sums.cross[channel].sum()) / own if own > 0.0 else 1.0


def _of_channel(sums: FrameSums, channel: int) -> Moving | None:
    """The law that explains the gain of a channel over time; None for none."""
    own, cross, other = sums.own[channel], sums.cross[channel], sums.other[channel]
    if own.sum() <= 0.0:
        return None
    still = float(other.sum()) - float(cross.sum()) ** 2 / float(own.sum())
    free = float((other - np.divide(cross**2, own, out=np.zeros_like(own), where=own > 0.0)).sum())
    if fall(still, max(free, 0.0)) < MOTION.worth_db:
        return None
    enough = still - MOTION.explained * (still - free)
    half = still - 0.5 * (still - free)
    track = Track(sums.times, own, cross, other, sums.size / sums.rate)
    laws = (fit_steps(track), fit_ramp(track, half), fit_swing(track, half))
    found = [one for one in laws if one is not None and one.left <= enough and fall(still, one.left) >= MOTION.worth_db
             and abs(one.amount) >= MOTION.least_db
             and not is_gap(one)]  # fmt: skip
    return min(found, key=lambda one: one.left) if found else None


def _to_the_sample(
    found: Moving | None, reference: Source, aligned: AlignedSource, channel: int, sums: FrameSums
) -> Moving | None:
    """Steps with their edges where the one level begins to leave more than the other."""
    if found is None or not found.edges:
        return found
    edges: list[float] = []
    for place, (before, after) in zip(found.edges, pairwise(found.levels), strict=True):
        lo, hi = (min(max(0, round(place * reference.rate) + way * 2 * sums.size), reference.frames) for way in (-1, 1))
        x, y = reference.read(lo, hi)[:, channel], aligned.read(lo, hi)[:, channel]
        gone = np.concatenate([[0.0], np.cumsum((y - before * x) ** 2 - (y - after * x) ** 2)])
        edges.append((lo + int(gone.argmin())) / reference.rate)
    edges.sort()
    # Frames that hold an edge tell neither level.
    where = np.searchsorted(edges, sums.times)
    clear = np.min(np.abs(sums.times[:, None] - np.array(edges)), axis=1) > sums.size / reference.rate
    levels: list[float] = []
    for part, level in enumerate(found.levels):
        mine = clear & (where == part)
        own = float(sums.own[channel][mine].sum())
        levels.append(float(sums.cross[channel][mine].sum()) / own if own > 0.0 else level)
    told = stepping(edges, levels, found.left)
    return None if is_gap(told) else told


def _told(found: Sequence[Moving | None], off: float) -> list[Cause]:
    """One cause where all channels move alike, else one for each that moves."""
    moving = [(c, one) for c, one in enumerate(found) if one is not None]
    lead = max((one for _, one in moving), key=lambda one: abs(one.amount))
    alike = all(
        one.words == lead.words or abs(one.amount - lead.amount) < max(0.05, 0.05 * abs(lead.amount))
        for _, one in moving
    )
    told = [("all", lead)] if len(moving) == len(found) and alike else [(str(c + 1), one) for c, one in moving]
    return [
        Cause("gain_motion", channel, one.amount, "dB", off if i == 0 else None, one.words, one.start, one.length)
        for i, (channel, one) in enumerate(told)
    ]
