"""A render whose clock differs, brought to the reference's: read between its samples, where the delay grows."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Derived, Samples, read_padded

Floats = NDArray[np.float64]

_HALF = 32  # taps on either side
_BETA = 9.0
_AT_ONCE = 1 << 14


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
        """Frames start to stop of the reference's time axis, by a windowed sinc of 64 taps."""
        parts = [self._read(a, min(a + _AT_ONCE, stop)) for a in range(start, stop, _AT_ONCE)]
        return np.concatenate(parts) if parts else np.zeros((0, self.channels))

    def _read(self, start: int, stop: int) -> Samples:
        from scipy.special import i0  # slow to load, and few renders have a clock of their own

        frames = np.arange(start, stop)
        places = frames + self.delay + self.drift * 1e-6 * (frames - self.length / 2)
        first = int(np.floor(places[0])) - _HALF
        wide = read_padded(self.source, first, int(np.floor(places[-1])) + _HALF + 2)
        whole = np.floor(places).astype(int)
        offsets = np.arange(-_HALF + 1, _HALF + 1)
        distance = offsets[None, :] - (places - whole)[:, None]
        window = i0(_BETA * np.sqrt(np.maximum(0.0, 1.0 - (distance / _HALF) ** 2))) / i0(_BETA)
        taps = np.sinc(distance) * window
        index = (whole - first)[:, None] + offsets[None, :]
        return np.asarray(np.einsum("ft,ftc->fc", taps, wide[index]))
