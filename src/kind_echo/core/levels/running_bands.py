"""The spectrum of the last tenth of a second along a file, in third octaves."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import MOST, Source
from kind_echo.core.audio.third_octaves import band_centres, band_powers
from kind_echo.core.audio.transforms import hann
from kind_echo.core.levels.needles import FLOOR, STEP_SECONDS

Floats = NDArray[np.float64]

LOWEST = -13
"""Number of the lowest band, at 50 Hz: those under it are narrower than a tenth of a second can tell."""

_TINY = 1e-30


@dataclass(frozen=True)
class RunningBands:
    """Levels at the end of each step of a tenth of a second.

    Attributes:
        frequencies: mid-band, Hz, shape (bands,).
        levels: dBFS (AES17), the channels' powers pooled, shape (steps, bands); −120 for what is softer.
    """

    frequencies: Floats
    levels: Floats


def running_bands(source: Source, first: int, steps: int) -> RunningBands:
    """The bands of some steps of a file, from the first of them; fewer where the file ends.

    Each step is a Hann window over the tenth of a second that ends with it. What is not finite counts as silence.

    Source: IEC 61260-1 for the bands.
    """
    size = max(16, round(STEP_SECONDS * source.rate))
    count = max(0, min(steps, -(-source.frames // size) - first))
    centres = band_centres(source.rate, LOWEST)
    window = hann(size)
    # Mean square of a bin: both signs of frequency, less the window's power; AES17 doubles it again.
    scale = 2.0 * 2.0 / (size * np.sum(window**2))
    levels = np.full((count, len(centres)), FLOOR)
    for step in range(count):
        start = (first + step) * size
        block = source.read(start, min(start + size, source.frames))
        block = np.where(np.abs(block) <= MOST, block, 0.0)
        lines = fft.rfft(np.ascontiguousarray(block.T) * window[: len(block)], size)
        power = scale * np.mean(lines.real**2 + lines.imag**2, axis=0)
        found = np.maximum(band_powers(power, centres, source.rate, size), _TINY)
        levels[step] = np.maximum(10.0 * np.log10(found), FLOOR)
    return RunningBands(centres, levels)
