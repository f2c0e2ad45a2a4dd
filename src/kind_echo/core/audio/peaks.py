"""Least and greatest sample of stretches of a file at several resolutions: waveforms drawn without reading all."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples, Source, blocks, read_padded

FINEST = 256
"""Frames of one bin of the finest level."""

FACTOR = 8
"""Bins of one level that make one of the next."""

Bins = NDArray[np.float32]
"""Shape (bins, channels, 2): least and greatest sample of each bin."""

CURVE_POINTS = 16
"""Drawn points of the reconstructed curve from one sample to the next."""

_MARGIN = 64


@dataclass(frozen=True)
class Level:
    """One resolution: the last bin may be shorter."""

    frames_per_bin: int
    bins: Bins


def build_levels(source: Source) -> list[Level]:
    """All resolutions of a source, finest first, down to one of at most FACTOR bins."""
    parts: list[Bins] = [_extremes(block, FINEST) for _, block in blocks(source)]
    finest = np.concatenate(parts) if parts else np.zeros((0, source.channels, 2), dtype=np.float32)
    levels = [Level(FINEST, finest)]
    while len(levels[-1].bins) > FACTOR:
        last = levels[-1]
        starts = np.arange(0, len(last.bins), FACTOR)
        bins = np.stack(
            [np.minimum.reduceat(last.bins[..., 0], starts), np.maximum.reduceat(last.bins[..., 1], starts)], axis=-1
        )
        levels.append(Level(last.frames_per_bin * FACTOR, bins))
    return levels


def level_for(frames_per_column: float) -> int | None:
    """Index of the coarsest level that still has a bin for every column; None when samples must be read."""
    if frames_per_column < FINEST:
        return None
    index = 0
    while FINEST * FACTOR ** (index + 1) <= frames_per_column:
        index += 1
    return index


def columns_from_bins(bins: Bins, first_bin: int, frames_per_bin: int, start: int, stop: int, columns: int) -> Bins:
    """Extremes of each of `columns` equal stretches of start … stop, from bins of which the first is `first_bin`."""
    edges = np.linspace(start, stop, columns + 1) / frames_per_bin - first_bin
    lo = np.clip(np.floor(edges[:-1]).astype(int), 0, len(bins) - 1)
    hi = np.clip(np.ceil(edges[1:]).astype(int), lo + 1, len(bins))
    return np.stack([_merged(bins, a, b) for a, b in zip(lo, hi, strict=True)])


def columns_from_samples(samples: Samples, columns: int) -> Bins:
    """Extremes of each of `columns` equal stretches of samples; at least one sample a column."""
    edges = np.linspace(0, len(samples), columns + 1).astype(int)
    starts = np.minimum(edges[:-1], len(samples) - 1)
    low, high = np.minimum.reduceat(samples, starts, axis=0), np.maximum.reduceat(samples, starts, axis=0)
    with np.errstate(over="ignore", invalid="ignore"):  # what a file of 64 bits holds may be beyond what is drawn
        return np.stack([low, high], axis=-1).astype(np.float32)


def columns_of(source: Source, columns: int) -> Bins:
    """Extremes of each of `columns` equal stretches of a whole source, read once in blocks."""
    position = level_for(source.frames / columns)
    if position is None:
        return columns_from_samples(source.read(0, source.frames), min(columns, source.frames))
    level = build_levels(source)[position]
    return columns_from_bins(level.bins, 0, level.frames_per_bin, 0, source.frames, columns)


def reconstruct(source: Source, start: int, stop: int, points: int = CURVE_POINTS) -> Samples:
    """The band-limited curve through frames start … stop, `points` values a sample; shape (values, channels).

    Source: C. E. Shannon, Communication in the presence of noise, Proc. IRE 37 (1949); by zero-padding the spectrum.
    """
    samples = read_padded(source, start - _MARGIN, stop + _MARGIN)
    size = len(samples)
    taper = np.minimum(1.0, np.minimum(np.arange(size) + 1, np.arange(size)[::-1] + 1) / (_MARGIN / 2))
    spectrum = np.fft.rfft(samples * taper[:, None], axis=0)
    if size % 2 == 0:
        spectrum[-1] /= 2
    fine = np.fft.irfft(spectrum, size * points, axis=0) * points
    return fine[_MARGIN * points : (size - _MARGIN) * points]


def _extremes(block: Samples, frames_per_bin: int) -> Bins:
    starts = np.arange(0, len(block), frames_per_bin)
    low, high = np.minimum.reduceat(block, starts, axis=0), np.maximum.reduceat(block, starts, axis=0)
    with np.errstate(over="ignore", invalid="ignore"):  # what a file of 64 bits holds may be beyond what is drawn
        return np.stack([low, high], axis=-1).astype(np.float32)


def _merged(bins: Bins, lo: int, hi: int) -> NDArray[np.float32]:
    part = bins[lo:hi]
    return np.stack([part[..., 0].min(axis=0), part[..., 1].max(axis=0)], axis=-1)
