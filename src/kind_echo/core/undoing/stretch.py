"""The stretch of a pair that long transforms are taken of, each channel of the reference at the level of the render."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, overlap
from kind_echo.core.audio.source import Source, as_rows

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Stretch:
    """Samples of the middle of a pair; shape (channels, frames).

    Attributes:
        first: frame of the reference at which they begin.
        x: of the reference, as it is.
        y: of the render.
        factors: of each channel, the least-squares factor of the render over the reference.
    """

    first: int
    rate: int
    x: Floats
    y: Floats
    factors: Floats

    @property
    def error(self) -> Floats:
        """What the factors leave."""
        return np.asarray(self.y - self.factors[:, None] * self.x)


def take_stretch(reference: Source, aligned: AlignedSource, most: int) -> Stretch | None:
    """The stretch; None where the two do not lie over each other."""
    lo, hi = overlap(reference, aligned)
    if hi - lo < 64:
        return None
    if hi - lo > most:
        lo = (lo + hi - most) // 2
        hi = lo + most
    x, y = as_rows(reference.read(lo, hi)), as_rows(aligned.read(lo, hi))
    own, cross = np.einsum("cf,cf->c", x, x), np.einsum("cf,cf->c", x, y)
    factors = np.divide(cross, own, out=np.ones_like(own), where=own > 0.0)
    return Stretch(lo, reference.rate, x, y, factors)
