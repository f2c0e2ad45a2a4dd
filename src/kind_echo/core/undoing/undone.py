"""A change that was found, and the pair without it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause, CauseName

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Undone:
    """Causes that were found, and a pair that differs by all but these.

    Attributes:
        kind: the cause by which it is not looked for again.
        start, length: seconds of the reference from which on, and for how long, the pair is a part of the whole.
        period: samples, by which a delay that was undone may as well be more or less.
        off: dB by which what is left of the whole pair falls with them undone.
    """

    causes: list[Cause]
    reference: Source
    render: Source
    off: float
    start: float | None = None
    length: float | None = None
    kind: CauseName = "none"
    period: float | None = None


@dataclass(frozen=True)
class FrameSums:
    """Sums of products over short frames of an aligned pair, one after the other; each of shape (channels, frames).

    Attributes:
        first: frame of the reference at which the first begins.
        size: samples of each.
        own, cross, other: of the reference with itself, with the render, and of the render with itself.
    """

    first: int
    size: int
    rate: int
    own: Floats
    cross: Floats
    other: Floats

    @property
    def times(self) -> Floats:
        """Seconds of the middles."""
        return (self.first + (np.arange(self.own.shape[1]) + 0.5) * self.size) / self.rate


def frame_sums(reference: Source, aligned: AlignedSource, size: int) -> FrameSums | None:
    """The sums over frames of `size` samples, a power of two; None where the overlap holds none."""
    parts, first = [], None
    for start, x, y in rows_of_pair(reference, aligned):
        first = start if first is None else first
        count = x.shape[1] // size
        a, b = (side[:, : count * size].reshape(len(side), count, size) for side in (x, y))
        parts.append([np.einsum("cfs,cfs->cf", p, q) for p, q in ((a, a), (a, b), (b, b))])
    if first is None:
        return None
    own, cross, other = (np.concatenate([part[i] for part in parts], axis=1) for i in range(3))
    return FrameSums(first, size, reference.rate, own, cross, other) if own.shape[1] else None
