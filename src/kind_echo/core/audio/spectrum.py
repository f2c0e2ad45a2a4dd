"""Level spectrum of a stretch of audio, for drawing: a sine reads its own peak level."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.audio.transforms import four_term

_LONGEST_FRAMES = 1 << 16
_MOST_SEGMENTS = 200  # more are spread evenly over the stretch, so that an hour costs what ten minutes cost
_POINTS_PER_OCTAVE = 48
_LOWEST_HZ = 10.0
_LEAST_AMPLITUDE = 1e-12  # −240 dBFS: the lower edge of any drawing


@dataclass(frozen=True)
class Spectrum:
    """Greatest level in each of a grid of bands a 48th of an octave wide.

    Attributes:
        frequencies: Hz, shape (bands,); centres.
        levels: dBFS of a sine's peak, shape (bands,); the channels' greatest.
        window: frames of one transform.
    """

    frequencies: NDArray[np.float64]
    levels: NDArray[np.float64]
    window: int


def level_spectrum(source: Source, start: int, stop: int) -> Spectrum:
    """Power average over windows of up to 65 536 frames, half overlapped, of frames start … stop (at least 16).

    Source: F. J. Harris, On the use of windows for harmonic analysis, Proc. IEEE 66 (1978): 4-term Blackman-Harris,
    side lobes under −92 dB.
    """
    window = min(_LONGEST_FRAMES, 1 << int(np.log2(max(16, stop - start))))
    weights = four_term(window)
    last = max(start, stop - window)
    count = int(min(_MOST_SEGMENTS, 1 + 2 * (last - start) // window))
    power = np.zeros((source.channels, window // 2 + 1))
    windowed = np.zeros((source.channels, window))  # a row a channel: transforms want each in one piece
    for position in np.linspace(start, last, count).astype(int):
        block = source.read(int(position), min(int(position) + window, source.frames))
        np.multiply(block.T, weights[: len(block)], out=windowed[:, : len(block)])
        windowed[:, len(block) :] = 0.0
        lines = fft.rfft(windowed)
        power += lines.real**2 + lines.imag**2
    amplitude = np.sqrt(power.max(axis=0) / count) * 2.0 / weights.sum()
    return _banded(amplitude, source.rate, window)


def _banded(amplitude: NDArray[np.float64], rate: int, window: int) -> Spectrum:
    top = rate / 2
    octaves = int(np.ceil(np.log2(top / _LOWEST_HZ) * _POINTS_PER_OCTAVE))
    edges = top * 2.0 ** ((np.arange(octaves + 1) - octaves) / _POINTS_PER_OCTAVE)
    bins = edges * window / rate
    starts = np.clip(np.ceil(bins[:-1]).astype(int), 1, len(amplitude) - 1)
    stops = np.clip(np.ceil(bins[1:]).astype(int), starts + 1, len(amplitude))
    keep = np.flatnonzero(np.diff(starts, prepend=-1) > 0)  # where bands are finer than bins, a bin is drawn once
    levels = np.array([amplitude[starts[k] : stops[k]].max() for k in keep])
    centres = np.sqrt(edges[:-1] * edges[1:])[keep]
    return Spectrum(centres, 20.0 * np.log10(np.maximum(levels, _LEAST_AMPLITUDE)), window)
