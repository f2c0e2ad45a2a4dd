"""Polyphase oversampling with state, block by block: the same result for any block size."""

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples
from kind_echo.standins._loops import lower_rate, raise_rate

HALF_LENGTH = 48
"""Frames at the base rate on either side of the centre of one filter; up and down together delay by twice that."""

_ATTENUATION = 120.0  # dB of the stop band
_CUTOFF = 0.46  # of the base rate: flat to 0.42, 120 dB down from half the rate


def anti_alias_filter(factor: int, cutoff: float = _CUTOFF) -> NDArray[np.float64]:
    """Linear-phase low-pass at `factor` times the base rate; unity gain at 0 Hz; 2·HALF_LENGTH·factor + 1 taps.

    Source: J. F. Kaiser, Nonrecursive digital filter design using the I0-sinh window function, ISCAS 1974.
    """
    taps = 2 * HALF_LENGTH * factor + 1
    return scipy.signal.firwin(taps, 2.0 * cutoff / factor, window=("kaiser", scipy.signal.kaiser_beta(_ATTENUATION)))


class Upsampler:
    """Raises the rate by a whole factor; delays by HALF_LENGTH frames of the base rate."""

    def __init__(self, factor: int, channels: int) -> None:
        self._phases = _phases(factor * anti_alias_filter(factor), factor)
        self._history = np.zeros((2 * HALF_LENGTH, channels))

    def process(self, block: Samples) -> Samples:
        """The next frames at the base rate in, `factor` times as many out."""
        extended = np.concatenate([self._history, block])
        self._history = extended[len(block) :]
        return raise_rate(extended, self._phases)


class Downsampler:
    """Lowers the rate by a whole factor; delays by HALF_LENGTH frames of the base rate."""

    def __init__(self, factor: int, channels: int, cutoff: float = _CUTOFF) -> None:
        self._factor = factor
        self._phases = _phases(anti_alias_filter(factor, cutoff)[::-1], factor)
        self._history = np.zeros((2 * HALF_LENGTH * factor, channels))

    def process(self, block: Samples) -> Samples:
        """The next frames at the raised rate in (a multiple of the factor), one in `factor` out."""
        extended = np.concatenate([self._history, block])
        self._history = extended[len(block) :]
        return lower_rate(extended, self._phases)


def _phases(taps: NDArray[np.float64], factor: int) -> NDArray[np.float64]:
    """Taps in rows of `factor`, filled up with zeros."""
    rows = -(-len(taps) // factor)
    return np.concatenate([taps, np.zeros(rows * factor - len(taps))]).reshape(rows, factor)
