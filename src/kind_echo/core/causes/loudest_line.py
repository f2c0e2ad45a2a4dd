"""How much of a sound lies in its strongest line: of one line no filter can be told."""

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.transforms import hann
from kind_echo.core.causes.excerpts import Excerpt

Floats = NDArray[np.float64]

SPECTRUM_FRAMES = 4096
"""Of the blocks whose spectra are added up."""

_TONE_BINS = 12


def is_steady_tone(excerpt: Excerpt) -> bool:
    """Whether nearly all of the reference is one line, of which no filter can be told."""
    return line_share(excerpt) > 1.0 - 1e-5


def line_share(excerpt: Excerpt) -> float:
    """The share of the power of the reference that lies in its strongest line; 0 for silence."""
    power = spectrum_of(excerpt.inner)
    top, total = int(power.argmax()), float(power.sum())
    return float(power[max(0, top - _TONE_BINS) : top + _TONE_BINS + 1].sum()) / total if total > 0.0 else 0.0


def spectrum_of(samples: Floats) -> Floats:
    """Power of each bin, over all blocks of some rows of samples."""
    window, power = hann(SPECTRUM_FRAMES), np.zeros(SPECTRUM_FRAMES // 2 + 1)
    for row in samples:
        padded = np.pad(row, (0, max(0, SPECTRUM_FRAMES - len(row))))
        for start in range(0, len(padded) - SPECTRUM_FRAMES + 1, SPECTRUM_FRAMES // 2):
            power += np.abs(fft.rfft(padded[start : start + SPECTRUM_FRAMES] * window)) ** 2
    return power
