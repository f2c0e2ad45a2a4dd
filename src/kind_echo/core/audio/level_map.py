"""Level over time and frequency, as a map to be looked at."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import BLOCK, Source, read_padded
from kind_echo.core.audio.transforms import four_term

FLOOR = -140.0
"""dBFS; what is softer is shown as this."""

_WINDOW_SECONDS = 0.085
_SHORTEST_FRAMES = 256  # frames
_LOWEST_HZ = 20.0  # Hz
_EVERY_FRAME_SAMPLES = 1 << 24  # samples of all channels, up to which every frame is looked at


@dataclass(frozen=True)
class LevelMap:
    """A map: `levels[column, row]` in dBFS of a sine, rows from `low` to `high` Hz.

    Attributes:
        share: of the frames that were looked at: 1 unless the stretch is long.
    """

    levels: NDArray[np.float64]
    low: float
    high: float
    share: float


def level_map(
    source: Source,
    columns: int,
    rows: int,
    start: int = 0,
    stop: int | None = None,
    *,
    even: bool = False,
    quick: bool = False,
) -> LevelMap:
    """The greatest level in each band over each of `columns` equal parts of frames start … stop.

    Every frame is looked at, so that nothing short is missed, but in a stretch of more than 2²⁴ samples, or of a quick
    map, of which each part is looked at in its middle alone. A sine that falls between two lines of the transform reads
    up to 0.8 dB low (Blackman-Harris, four terms; F. J. Harris, Proc. IEEE 66 (1978), table 1). Channels are taken
    together by the louder.

    Args:
        even: rows in equal steps of frequency, from 0; else in equal steps of an octave, from 20 Hz.
    """
    end = source.frames if stop is None else stop
    rate, part = source.rate, (end - start) / columns
    longest = 2 ** round(np.log2(_WINDOW_SECONDS * rate))
    size = int(np.clip(2 ** np.ceil(np.log2(max(1.0, 2 * part))), min(_SHORTEST_FRAMES, longest), longest))
    weights = four_term(size)
    edges = (
        np.linspace(0.0, rate / 2, rows + 1)
        if even
        else _LOWEST_HZ * (rate / 2 / _LOWEST_HZ) ** (np.arange(rows + 1) / rows)
    )
    bins = np.clip(np.round(edges * size / rate).astype(int), 0 if even else 1, size // 2)
    begins, ends = bins[:-1], np.minimum(np.maximum(bins[1:], bins[:-1] + 1), size // 2)
    begins = np.minimum(begins, size // 2 - 1)
    bands = np.ravel(np.column_stack([begins, ends]))
    whole = not quick and (end - start) * source.channels <= _EVERY_FRAME_SAMPLES
    hop = min(part, size / 2) if whole else part
    looks = max(1, int(np.ceil(part / hop)))
    levels = np.full((columns, rows), FLOOR)
    at_once = max(1, BLOCK // (size * looks))
    for first in range(0, columns, at_once):
        last = min(columns, first + at_once)
        centres = start + (np.arange(first * looks, last * looks) + 0.5) * part / looks
        places = np.round(centres).astype(int) - size // 2
        if whole:
            block = read_padded(source, int(places[0]), int(places[-1]) + size)
            windows = np.lib.stride_tricks.sliding_window_view(block, size, axis=0)[places - places[0]]
        else:
            windows = np.stack([read_padded(source, int(at), int(at) + size).T for at in places])
        lines = np.abs(fft.rfft(windows * weights, axis=2)).max(axis=1) * (2.0 / weights.sum())
        found = np.maximum.reduceat(lines, bands, axis=1)[:, ::2]
        found = found.reshape(last - first, looks, rows).max(axis=1)
        levels[first:last] = np.maximum(20.0 * np.log10(np.maximum(found, 1e-12)), FLOOR)
    share = min(1.0, columns * looks * size / max(1, end - start))
    return LevelMap(levels, 0.0 if even else _LOWEST_HZ, rate / 2, share)
