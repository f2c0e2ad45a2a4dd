"""A render whose clock differs, brought to the reference's: read between its samples, where the delay grows."""

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Derived, Samples, Source, as_rows, read_padded
from kind_echo.core.compiled import loops

Floats = NDArray[np.float64]

_HALF_TAPS = 32  # taps on either side
_KAISER_BETA = 9.0
_AT_ONCE_FRAMES = 1 << 14  # frames
_STEPS_PER_SAMPLE = 256  # steps of the table of taps to one sample
_STEPS_BEFORE, _STEPS_AFTER = 2, 3  # steps around a fraction, between which its taps are interpolated


@dataclass(frozen=True)
class WarpedSource(Derived):
    """A render on the reference's time axis, of which it is late by a delay that grows.

    Attributes:
        delay: samples in the middle of the reference.
        drift: ppm by which the delay grows.
        length: frames of the reference.
    """

    delay: float
    drift: float
    length: int

    @property
    def frames(self) -> int:
        """Length of the reference."""
        return self.length

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop of the reference's time axis, shape (stop − start, channels)."""
        frames = np.arange(start, stop)
        return read_between(self.source, frames + self.delay + self.drift * 1e-6 * (frames - self.length / 2))


def read_between(source: Source, places: Floats) -> Samples:
    """A source at places between its samples, which must go upwards; zeros beyond its ends.

    Returns:
        Samples of shape (places, channels).
    Source:
        C. E. Shannon, Communication in the presence of noise, Proc. IRE 37 (1949); a sinc of 64 taps under a Kaiser
        window.
    """
    parts = [_read_some(source, places[a : a + _AT_ONCE_FRAMES]) for a in range(0, len(places), _AT_ONCE_FRAMES)]
    return np.concatenate(parts) if parts else np.zeros((0, source.channels))


def _read_some(source: Source, places: Floats) -> Samples:
    whole = np.floor(places).astype(np.int64)
    start = int(whole[0]) - _HALF_TAPS + 1
    rows = as_rows(read_padded(source, start, int(whole[-1]) + _HALF_TAPS + 1))
    out = np.empty((len(places), source.channels))
    loops.read_between(rows, whole - _HALF_TAPS + 1 - start, places - whole, _tap_table(), out)
    return out


@cache
def _tap_table() -> Floats:
    """Taps at fractions of a sample in steps of 1 / _STEPS_PER_SAMPLE, as far as the nodes reach: shape (steps, 64)."""
    from scipy.special import i0, j0  # slow to load, and few renders have a clock of their own

    fractions = np.arange(-_STEPS_BEFORE, _STEPS_PER_SAMPLE + _STEPS_AFTER) / _STEPS_PER_SAMPLE
    distance = np.arange(-_HALF_TAPS + 1, _HALF_TAPS + 1) - fractions[:, None]
    inside = 1.0 - (distance / _HALF_TAPS) ** 2
    # Beyond its ends the window is continued as the same analytic function, so that it can be interpolated there.
    root = _KAISER_BETA * np.sqrt(np.abs(inside))
    return np.asarray(np.sinc(distance) * np.where(inside >= 0.0, i0(root), j0(root)) / i0(_KAISER_BETA))
