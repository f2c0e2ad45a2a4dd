"""A render whose clock differs, brought to the reference's: read between its samples, where the delay grows."""

from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from kind_echo.core.audio.source import Derived, Samples, Source, read_padded

Floats = NDArray[np.float64]

_HALF = 32  # taps on either side
_BETA = 9.0
_AT_ONCE = 1 << 14  # frames
_CHUNK = 1 << 10  # frames whose taps fit into the cache of the processor
_GRID = 256  # steps of the table of taps to one sample
_NODES = np.arange(-2, 4)  # steps around a fraction, between which its taps are interpolated


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
    parts = [_read_some(source, places[a : a + _AT_ONCE]) for a in range(0, len(places), _AT_ONCE)]
    return np.concatenate(parts) if parts else np.zeros((0, source.channels))


def _read_some(source: Source, places: Floats) -> Samples:
    whole = np.floor(places).astype(int)
    first = int(whole[0]) - _HALF
    wide = read_padded(source, first, int(whole[-1]) + _HALF + 2)
    near = sliding_window_view(wide.T, 2 * _HALF, axis=1)  # shape (channels, places, taps)
    out = np.empty((len(places), source.channels))
    for part in (slice(a, a + _CHUNK) for a in range(0, len(places), _CHUNK)):
        taps = _taps_at(places[part] - whole[part])
        begin = whole[part] - first - _HALF + 1
        for c, samples in enumerate(near):
            np.einsum("ft,ft->f", taps, samples[begin], out=out[part, c])
    return out


def _taps_at(fractions: Floats) -> Floats:
    """Taps at fractions of a sample, 0 to 1, shape (fractions, 64): interpolated in the table, to about 1e-13."""
    at = np.minimum((fractions * _GRID).astype(int), _GRID - 1)
    beyond = fractions * _GRID - at
    taps = np.zeros((len(fractions), 2 * _HALF))
    for number, node in enumerate(_NODES):
        others = _NODES[node != _NODES]
        share = np.prod(
            (beyond[:, None] - others) / (node - others), axis=1
        )  # of Lagrange's polynomial through six steps
        taps += share[:, None] * _tap_table()[at + number]
    return taps


@cache
def _tap_table() -> Floats:
    """Taps at fractions of a sample in steps of 1 / _GRID, as far as the nodes reach: shape (steps, 64)."""
    from scipy.special import i0, j0  # slow to load, and few renders have a clock of their own

    fractions = np.arange(_NODES[0], _GRID + _NODES[-1]) / _GRID
    distance = np.arange(-_HALF + 1, _HALF + 1) - fractions[:, None]
    inside = 1.0 - (distance / _HALF) ** 2
    # Beyond its ends the window is continued as the same analytic function, so that it can be interpolated there.
    root = _BETA * np.sqrt(np.abs(inside))
    return np.asarray(np.sinc(distance) * np.where(inside >= 0.0, i0(root), j0(root)) / i0(_BETA))
