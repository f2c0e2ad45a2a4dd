"""The stretch of a pair that long transforms are taken of, each channel of the reference at the level of the render."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, overlap
from kind_echo.core.audio.smoothing import moving_mean
from kind_echo.core.audio.source import Source, as_rows

Floats = NDArray[np.float64]

_FRAME_SAMPLES = 512  # samples, of which it is told whether they sound
_MEAN_SECONDS = 0.05  # over which the power of frames is averaged, one period of the lowest tone that is heard
_SOUNDING_SHARE = 0.5  # of the greatest mean
_EDGE_SECONDS = 0.035  # at either end of what sounds, in which it begins and a filter settles


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
    return _middle(reference, aligned, *overlap(reference, aligned), most)


def take_sounding(reference: Source, aligned: AlignedSource, most: int) -> Stretch | None:
    """The stretch in which a reference is loud for longest without a break, but for its ends."""
    lo, hi = overlap(reference, aligned)
    hi = min(hi, lo + 4 * most)
    frames = max(0, hi - lo) // _FRAME_SAMPLES
    powers = (
        np.square(reference.read(lo, lo + frames * _FRAME_SAMPLES))
        .sum(axis=1)
        .reshape(frames, _FRAME_SAMPLES)
        .sum(axis=1)
    )
    powers = moving_mean(powers, max(1, round(_MEAN_SECONDS * reference.rate / _FRAME_SAMPLES)))
    if not powers.any():
        return None
    sounds = np.concatenate([[False], powers > _SOUNDING_SHARE * powers.max(), [False]])
    begins, ends = (np.flatnonzero(step) for step in (sounds[1:] & ~sounds[:-1], sounds[:-1] & ~sounds[1:]))
    longest = int((ends - begins).argmax())
    edge = round(_EDGE_SECONDS * reference.rate)
    first, last = lo + int(begins[longest]) * _FRAME_SAMPLES + edge, lo + int(ends[longest]) * _FRAME_SAMPLES - edge
    return _middle(reference, aligned, first, last, most)


def _middle(reference: Source, aligned: AlignedSource, lo: int, hi: int, most: int) -> Stretch | None:
    if hi - lo < 64:
        return None
    if hi - lo > most:
        lo = (lo + hi - most) // 2
        hi = lo + most
    x, y = as_rows(reference.read(lo, hi)), as_rows(aligned.read(lo, hi))
    own, cross = np.einsum("cf,cf->c", x, x), np.einsum("cf,cf->c", x, y)
    factors = np.divide(cross, own, out=np.ones_like(own), where=own > 0.0)
    return Stretch(lo, reference.rate, x, y, factors)
