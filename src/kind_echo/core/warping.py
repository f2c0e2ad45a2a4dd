"""A render whose clock differs, brought to the reference's: read between its samples, where the delay grows."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.source import Samples, Source, read_padded

Floats = NDArray[np.float64]

_HALF = 32  # taps on either side
_BETA = 9.0
_AT_ONCE = 1 << 14


@dataclass(frozen=True)
class WarpedSource:
    """A render on the reference's time axis, of which it is late by a delay that grows.

    Attributes:
        delay: samples in the middle of the file.
        drift: ppm by which the delay grows.
        frames: length of the reference.
    """

    source: Source
    delay: float
    drift: float
    frames: int

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self.source.rate

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.source.channels

    @property
    def half_step(self) -> float:
        """Half a quantisation step."""
        return self.source.half_step

    @property
    def rail(self) -> float:
        """Greatest positive sample."""
        return self.source.rail

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop of the reference's time axis, by a windowed sinc of 64 taps."""
        parts = [self._read(a, min(a + _AT_ONCE, stop)) for a in range(start, stop, _AT_ONCE)]
        return np.concatenate(parts) if parts else np.zeros((0, self.channels))

    def _read(self, start: int, stop: int) -> Samples:
        frames = np.arange(start, stop)
        places = frames + self.delay + self.drift * 1e-6 * (frames - self.frames / 2)
        first = int(np.floor(places[0])) - _HALF
        wide = read_padded(self.source, first, int(np.floor(places[-1])) + _HALF + 2)
        whole = np.floor(places).astype(int)
        offsets = np.arange(-_HALF + 1, _HALF + 1)
        distance = offsets[None, :] - (places - whole)[:, None]
        window = np.i0(_BETA * np.sqrt(np.maximum(0.0, 1.0 - (distance / _HALF) ** 2))) / np.i0(_BETA)
        taps = np.sinc(distance) * window
        index = (whole - first)[:, None] + offsets[None, :]
        return np.asarray(np.einsum("ft,ftc->fc", taps, wide[index]))
