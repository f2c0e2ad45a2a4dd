"""Laying a render over its reference: whole samples, fractions of a sample, polarity and gain taken off on request."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy import fft

from kind_echo.core.audio.source import PASS, ArraySource, Rows, Samples, Source, as_rows, read_padded

Align = Literal["none", "samples", "fraction"]
"""What of a delay is taken off: nothing, whole samples, or fractions of one too."""

_MARGIN_FRAMES = 1 << 14  # frames on either side that keep the wrap-around of the fractional shift out of the result
_AT_ONCE_SAMPLES = 1 << 22  # samples of a render of which a fraction is taken off in one transform
_EDGE_FRAMES = 64  # frames at either end of a render of which a fraction cannot be taken off: a sinc has faded to 1/200
_NEGLIGIBLE_SAMPLES = 1e-6  # a fraction of a sample that is no fraction


@dataclass(frozen=True)
class Alignment:
    """What is taken off the render.

    Attributes:
        shift: whole samples by which the render is later.
        fraction: the rest of the delay, in samples.
        scale: factor the render is multiplied by (gain and polarity).
    """

    shift: int = 0
    fraction: float = 0.0
    scale: float = 1.0


@dataclass(frozen=True)
class AlignedSource:
    """A render on the time axis of its reference; zeros where it has no frames."""

    render: Source
    frames: int
    alignment: Alignment
    advanced: Source | None = None
    """The render with the fraction off already, where that was made of all of it at once."""

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self.render.rate

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.render.channels

    @property
    def half_step(self) -> float:
        """Half a quantisation step of the render."""
        return self.render.half_step

    @property
    def rail(self) -> float:
        """Greatest positive sample of the render."""
        return self.render.rail

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop of the reference's time axis."""
        shift, fraction, scale = self.alignment.shift, self.alignment.fraction, self.alignment.scale
        if abs(fraction) < _NEGLIGIBLE_SAMPLES or self.advanced is not None:
            block = read_padded(self.advanced or self.render, start + shift, stop + shift)
        else:
            wide = read_padded(self.render, start + shift - _MARGIN_FRAMES, stop + shift + _MARGIN_FRAMES)
            block = advance(wide, fraction)[_MARGIN_FRAMES:-_MARGIN_FRAMES]
        return block if scale == 1.0 else block * scale


class Aligner:
    """Lays one render over its reference under one alignment after the other.

    A fraction of a sample reaches far where a signal goes up to half the rate: of white noise, what is taken off block
    by block leaves −50 dB. A render that is not too long is therefore moved whole, once for each fraction.
    """

    def __init__(self, render: Source, frames: int) -> None:
        self.render, self._frames = render, frames
        self._advanced: dict[float, Source] = {}

    def at(self, alignment: Alignment) -> AlignedSource:
        """The render under an alignment. Not for several threads at once."""
        fraction = alignment.fraction
        if abs(fraction) < _NEGLIGIBLE_SAMPLES or self.render.frames * self.render.channels > _AT_ONCE_SAMPLES:
            return AlignedSource(self.render, self._frames, alignment)
        if fraction not in self._advanced:
            self._advanced[fraction] = _advanced(self.render, fraction)
        return AlignedSource(self.render, self._frames, alignment, self._advanced[fraction])


def _advanced(render: Source, fraction: float) -> Source:
    """All of a render earlier by a fraction of a sample; what leaves at one end comes in at the other."""
    moved = as_rows(advance(render.read(0, render.frames), fraction))
    return ArraySource(moved.T, render.rate, render.half_step, render.rail)


@dataclass(frozen=True)
class DifferenceSource:
    """Render − reference on the reference's time axis; zeros outside the overlap."""

    reference: Source
    render: AlignedSource

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self.reference.rate

    @property
    def frames(self) -> int:
        """Length of the reference."""
        return self.reference.frames

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.reference.channels

    @property
    def half_step(self) -> float:
        """Half a step of the coarser side."""
        return max(self.reference.half_step, self.render.half_step)

    @property
    def rail(self) -> float:
        """A difference has no rail of its own."""
        return 1.0

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop of the difference."""
        difference = self.render.read(start, stop) - self.reference.read(start, stop)
        lo, hi = overlap(self.reference, self.render)
        difference[: max(0, min(lo, stop) - start)] = 0.0
        difference[max(0, hi - start) :] = 0.0
        return difference


def advance(samples: Samples, fraction: float) -> Samples:
    """Shift samples earlier by a fraction of a sample, band-limited; wraps around at the ends."""
    size = samples.shape[0]
    turn = np.exp(2j * np.pi * np.arange(size // 2 + 1) / size * fraction)
    if size % 2 == 0:
        turn[-1] = np.cos(np.pi * fraction)
    return fft.irfft(fft.rfft(samples, axis=0) * turn[:, None], size, axis=0)


def overlap(reference: Source, aligned: AlignedSource) -> tuple[int, int]:
    """First and end frame, on the reference's time axis, for which both sides have samples."""
    shift = aligned.alignment.shift
    lo = min(max(0, -shift), reference.frames)
    hi = max(lo, min(reference.frames, aligned.render.frames - shift))
    if abs(aligned.alignment.fraction) >= _NEGLIGIBLE_SAMPLES:
        # Between samples a render is known only where it has samples on either side.
        edge = min(_EDGE_FRAMES, (hi - lo) // 8)
        lo, hi = max(lo, edge - shift), min(hi, aligned.render.frames - shift - edge)
    return lo, hi


def rows_of_pair(reference: Source, aligned: AlignedSource) -> Iterator[tuple[int, Rows, Rows]]:
    """The overlap in blocks: first frame, reference and render."""
    lo, hi = overlap(reference, aligned)
    for start in range(lo, hi, PASS):
        stop = min(start + PASS, hi)
        yield start, as_rows(reference.read(start, stop)), as_rows(aligned.read(start, stop))
