"""Windows and lengths for Fourier transforms.

SciPy has them too, and takes longer to load than a short file to be compared: `benchmarks.compare_files`.
"""

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

LOBE_BETA = 24.0
"""Kaiser's parameter for line measurement: side lobes under −180 dB, half a main lobe of 7.71 bins."""

LOBE_BINS = math.sqrt(math.pi**2 + LOBE_BETA**2) / math.pi


def fast_length(least: int) -> int:
    """The smallest length of the form 2^a·3^b·5^c, at least `least`, for which a transform is quick."""
    best = 1 << max(0, (least - 1).bit_length())
    for fives in (1, 5, 25, 125):
        for threes in (1, 3, 9, 27):
            odd = fives * threes
            twos = max(0, (-(-least // odd) - 1).bit_length())
            length = odd << twos
            if least <= length < best:
                best = length
    return best


@lru_cache(maxsize=8)
def hann(size: int) -> Floats:
    """Hann window, periodic; kept, and not to be written to. Source: F. J. Harris, Proc. IEEE 66 (1978)."""
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(size) / size)
    window.flags.writeable = False
    return np.asarray(window)


@lru_cache(maxsize=2)
def kaiser(size: int, beta: float) -> Floats:
    """Kaiser's window, symmetric; kept, and not to be written to. Source: F. J. Harris, Proc. IEEE 66 (1978)."""
    window = np.kaiser(size, beta)
    window.flags.writeable = False
    return np.asarray(window)


def four_term(size: int) -> Floats:
    """4-term Blackman-Harris window, periodic: side lobes under −92 dB. Source: F. J. Harris, Proc. IEEE 66 (1978)."""
    turn = 2 * np.pi * np.arange(size) / size
    return 0.35875 - 0.48829 * np.cos(turn) + 0.14128 * np.cos(2 * turn) - 0.01168 * np.cos(3 * turn)


def kaiser_sinc(taps: int, cutoff: float, offset: float, beta: float) -> Floats:
    """Taps of a windowed-sinc low-pass around `offset` samples; `cutoff` in cycles per sample; unity gain at 0 Hz."""
    position = np.arange(taps) - (taps // 2 - 1) - offset
    inside = np.clip(1.0 - np.square(position / (taps / 2)), 0.0, None)
    shape = 2 * cutoff * np.sinc(2 * cutoff * position) * np.i0(beta * np.sqrt(inside))
    return np.asarray(shape / shape.sum())
