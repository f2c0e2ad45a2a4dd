"""Level over time and frequency, as a map to be looked at."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.audio.transforms import four_term

FLOOR = -140.0
"""dBFS; what is softer is shown as this."""

_WINDOW_SECONDS = 0.085
_LOWEST = 20.0  # Hz


@dataclass(frozen=True)
class LevelMap:
    """A map: `levels[column, row]` in dBFS of a sine, rows from `low` to `high` Hz in equal steps of an octave."""

    levels: NDArray[np.float64]
    low: float
    high: float


def level_map(source: Source, columns: int, rows: int) -> LevelMap:
    """The greatest level in each band, around each of `columns` moments evenly spread over a source.

    A sine that falls between two lines of the transform reads up to 0.8 dB low (Blackman-Harris, four terms; F. J.
    Harris, Proc. IEEE 66 (1978), table 1). Channels are taken together by the louder.
    """
    rate = source.rate
    size = max(256, 2 ** round(np.log2(_WINDOW_SECONDS * rate)))
    window = four_term(size)
    edges = _LOWEST * (rate / 2 / _LOWEST) ** (np.arange(rows + 1) / rows)
    bins = np.clip(np.round(edges * size / rate).astype(int), 1, size // 2)
    starts = bins[:-1]
    stops = np.maximum(bins[1:], starts + 1)
    levels = np.full((columns, rows), FLOOR)
    for column in range(columns):
        centre = round((column + 0.5) * source.frames / columns)
        first, last = max(0, centre - size // 2), min(source.frames, centre + size // 2)
        block = source.read(first, last)
        placed = np.zeros((size, source.channels))
        offset = first - (centre - size // 2)
        placed[offset : offset + len(block)] = block
        heights = 2.0 * np.abs(fft.rfft(placed * window[:, None], axis=0)).max(axis=1) / window.sum()
        sums = np.maximum.reduceat(heights, np.ravel(np.column_stack([starts, np.minimum(stops, size // 2)])))[::2]
        levels[column] = np.maximum(20.0 * np.log10(np.maximum(sums, 1e-12)), FLOOR)
    return LevelMap(levels, _LOWEST, rate / 2)
