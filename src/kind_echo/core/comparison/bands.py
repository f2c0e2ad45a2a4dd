"""Power in third-octave bands."""

import numpy as np
from numpy import fft

from kind_echo.core.audio.source import Source
from kind_echo.core.audio.third_octaves import band_centres, band_powers
from kind_echo.core.audio.transforms import hann
from kind_echo.core.registry.readings import Curve

_LONGEST_FRAMES = 1 << 15
_MOST_SEGMENTS = 96
_LOWEST_BAND = -20  # the band at 10 Hz
_LEAST_POWER = 1e-30


def third_octaves(source: Source) -> Curve:
    """Level, in dBFS (AES17), in third-octave bands from 10 Hz to half the rate; the channels' powers pooled.

    Hann windows, half overlapped; of a long file 96 are spread over it.

    Source: IEC 61260-1.
    """
    size = min(_LONGEST_FRAMES, 1 << max(4, int(np.log2(max(16, source.frames)))))
    last = max(0, source.frames - size)
    count = int(min(_MOST_SEGMENTS, 1 + 2 * last // size))
    window = hann(size)
    power = np.zeros(size // 2 + 1)
    for position in np.linspace(0, last, count).astype(int):
        block = source.read(int(position), min(int(position) + size, source.frames))
        spectrum = fft.rfft(np.ascontiguousarray(block.T) * window[: len(block)], size)
        power += np.mean(spectrum.real**2 + spectrum.imag**2, axis=0)
    # Mean square of a bin: both signs of frequency, less the window's power; AES17 doubles it again.
    power *= 2.0 * 2.0 / (count * size * np.sum(window**2))
    centres = band_centres(source.rate, _LOWEST_BAND)
    levels = 10 * np.log10(np.maximum(band_powers(power, centres, source.rate, size), _LEAST_POWER))
    keep = levels > -280.0
    return Curve("Hz", "dBFS", centres[keep].tolist(), levels[keep].tolist())
