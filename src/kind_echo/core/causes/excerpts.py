"""Stretches of a pair that causes are told from: long enough to tell, short enough to hold and to fit models on."""

from dataclasses import dataclass, replace
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, overlap
from kind_echo.core.audio.source import Source, as_rows, read_padded

Floats = NDArray[np.float64]

MOST_FRAMES = 144_000
"""Of a pair, over all stretches: 3 s at 48 kHz."""

LONG_SWEEP_FRAMES = 1 << 20
"""Of a sweep, up to which all of it is taken: no part tells of the others."""

_STRETCHES = 4
_FOLD_FRAMES = 1 << 13
_SHORT_FOLD_FRAMES = 1 << 9  # where parts of the usual length have no frequencies in common, as in a sweep
_IN_COMMON_SHARE = 0.3  # of their spectra
_SPECTRUM_FRAMES = 1024  # frames
_BIN_POWER_SHARE, _LEAST_SWEEP_BINS = (
    1e-4,
    64,
)  # of the greatest power; bins of a spectrum, as many as a sweep has at the least
_OTHER_PARTS_SHARE, _LONE_BINS_SHARE = (
    0.05,
    0.5,
)  # of the part that has most of a bin, all others together; share of such bins in a sweep
_HEARD_PEAK = 1e-4  # full scale, under which stretches are taken elsewhere
_BLOCK_FRAMES = 1 << 13  # frames, of which the loudest is looked for


@dataclass(frozen=True)
class Excerpt:
    """Stretches of one channel of a pair, lined up to whole samples.

    Attributes:
        x: of the reference, with `reach` frames more at either end, shape (stretches, frames + 2·reach).
        y: of the render, shape (stretches, frames).
        weight: 1 where a frame counts, 0 where it is known to be spoilt; shape of y.
        fold_frames: of a part that is fitted on or judged on.
        starts: frames of the reference at which the stretches begin.
    """

    x: Floats
    y: Floats
    weight: Floats
    starts: tuple[int, ...]
    reach: int
    rate: int
    fold_frames: int = _FOLD_FRAMES

    @property
    def inner(self) -> Floats:
        """The reference over the frames of y."""
        return self.x[:, self.reach : self.x.shape[1] - self.reach]

    @property
    def fold(self) -> Floats:
        """0 or 1 for each frame: parts that are fitted on and judged on in turn; shape (frames,)."""
        length = min(self.fold_frames, max(1, self.y.shape[1] // 4))
        return np.asarray((np.arange(self.y.shape[1]) // length) % 2)

    def power(self, error: Floats) -> float:
        """Mean square of an error over the frames that count."""
        total = float(self.weight.sum())
        return float((error**2 * self.weight).sum()) / total if total else 0.0


def with_like_folds(one: Excerpt) -> Excerpt:
    """An excerpt whose parts, fitted on and judged on, have frequencies in common."""
    frames = one.inner.shape[1] // _SPECTRUM_FRAMES
    if frames < 8:
        return one
    cut = one.inner[:, : frames * _SPECTRUM_FRAMES].reshape(-1, _SPECTRUM_FRAMES)
    power = np.square(np.abs(np.fft.rfft(cut * np.hanning(_SPECTRUM_FRAMES), axis=1)))
    part = np.tile(one.fold[: frames * _SPECTRUM_FRAMES : _SPECTRUM_FRAMES], one.inner.shape[0])
    first, second = (power[part == k].sum(axis=0) for k in (0, 1))
    most = float(np.maximum(first, second).sum())
    if most <= 0.0:
        return one
    alike = float(np.minimum(first, second).sum()) >= _IN_COMMON_SHARE * most and not _are_apart(
        np.stack([first, second])
    )
    return one if alike else replace(one, fold_frames=_SHORT_FOLD_FRAMES)


def _are_apart(powers: Floats) -> bool:
    """Whether parts of a sound have each frequency once, as those of a sweep; their spectra, shape (parts, bins)."""
    total, most = powers.sum(axis=0), powers.max(axis=0)
    there = total > _BIN_POWER_SHARE * total.max()
    alone = total[there] - most[there] < _OTHER_PARTS_SHARE * most[there]
    return int(there.sum()) >= _LEAST_SWEEP_BINS and float(np.mean(alone)) > _LONE_BINS_SHARE


def take_excerpts(reference: Source, aligned: AlignedSource, reach: int) -> list[Excerpt]:
    """An excerpt of each channel of a pair that is lined up; the same stretches for all. Empty for no overlap.

    Args:
        reach: frames of the reference on either side, for filters; zeros beyond its ends.
    """
    lo, hi = overlap(reference, aligned)
    if hi <= lo:
        return []
    size, count = hi - lo, 1
    if size > MOST_FRAMES:
        size, count = MOST_FRAMES // _STRETCHES, _STRETCHES
    starts = tuple(int(s) for s in np.linspace(lo, hi - size, count).astype(int))
    if count > 1 and not any((np.abs(reference.read(s, s + size)) > _HEARD_PEAK).any() for s in starts):
        starts = _loudest(reference, lo, hi, size, count)
    if count > 1 and size * count < hi - lo <= LONG_SWEEP_FRAMES and _is_sweep(reference, starts, size):
        starts, size = (lo,), hi - lo
    x = np.stack([as_rows(read_padded(reference, s - reach, s + size + reach)) for s in starts], axis=1)
    y = np.stack([as_rows(aligned.read(s, s + size)) for s in starts], axis=1)
    return [Excerpt(x[c], y[c], np.ones_like(y[c]), starts, reach, reference.rate) for c in range(reference.channels)]


def is_sweep(reference: Source) -> bool:
    """Whether a reference has each of its frequencies once."""
    size = min(reference.frames, LONG_SWEEP_FRAMES) // _STRETCHES
    return size >= _SPECTRUM_FRAMES and _is_sweep(reference, tuple(range(0, _STRETCHES * size, size)), size)


def _is_sweep(reference: Source, starts: tuple[int, ...], size: int) -> bool:
    """Whether stretches of a reference have no frequencies in common, so that none tells of another."""
    powers = []
    for start in starts:
        cut = reference.read(start, start + size)[: size // _SPECTRUM_FRAMES * _SPECTRUM_FRAMES, :1].reshape(
            -1, _SPECTRUM_FRAMES
        )
        powers.append(np.square(np.abs(np.fft.rfft(cut * np.hanning(_SPECTRUM_FRAMES), axis=1))).sum(axis=0))
    return _are_apart(np.stack(powers))


def _loudest(reference: Source, lo: int, hi: int, size: int, count: int) -> tuple[int, ...]:
    """Where the stretches begin, if each is to hold what is loudest in its share of a file that is mostly silent."""
    begins = np.arange(lo, hi, _BLOCK_FRAMES)
    powers = np.array([float(np.square(reference.read(int(b), min(hi, int(b) + _BLOCK_FRAMES))).sum()) for b in begins])
    shares = np.linspace(lo, hi, count + 1).astype(int)
    starts = []
    for first, last in pairwise(shares.tolist()):
        mine = np.flatnonzero((begins >= first) & (begins < last))
        middle = int(begins[mine[powers[mine].argmax()]]) + _BLOCK_FRAMES // 2 if len(mine) else (first + last) // 2
        starts.append(min(max(middle - size // 2, first), last - size))
    return tuple(starts)


def best_gain(one: Excerpt) -> float:
    """Least-squares factor of the render over the reference; 1 for a silent reference."""
    own = float((one.inner**2 * one.weight).sum())
    return float((one.inner * one.y * one.weight).sum()) / own if own > 0.0 else 1.0


def best_left(one: Excerpt) -> float:
    """Mean square that is left at the best gain, at the level of the render."""
    gain = best_gain(one)
    return one.power(one.y - gain * one.inner)


def main_offset(one: Excerpt) -> float:
    """The offset of a render where it is the better part of what a gain leaves; else 0."""
    offset = _offset(one)
    gain = best_gain(one)
    return offset if offset**2 > 0.3 * one.power(one.y - gain * one.inner) else 0.0


def _offset(one: Excerpt) -> float:
    """The mean of the render that no gain of the reference explains."""
    total = float(one.weight.sum())
    if total <= 0.0:
        return 0.0
    x, y, w = one.inner, one.y, one.weight
    mx, my = float((x * w).sum()) / total, float((y * w).sum()) / total
    own = float((w * (x - mx) ** 2).sum())
    gain = float((w * (x - mx) * (y - my)).sum()) / own if own > 0.0 else 1.0
    return my - gain * mx
