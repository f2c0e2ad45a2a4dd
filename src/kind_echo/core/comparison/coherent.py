"""The level of that part of a render which is coherent with its reference, whatever a filter did to its phase.

In each bin of the spectrum the render is taken for a filter times the reference, plus noise: least squares over blocks
tells both apart. Noise adds one part in as many as there are blocks to the power of the filtered part; that is taken
off.

Source:
    J. S. Bendat and A. G. Piersol, Random Data, chapters on single-input models and on errors of their estimates. The
    variance is that of A. C. Cameron and P. K. Trivedi, Microeconometrics, robust to noise that is not the same
    throughout, bin by bin.
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, blocks, read_padded
from kind_echo.core.audio.transforms import hann

Floats = NDArray[np.float64]
Spectrum = NDArray[np.complex128]


@dataclass(frozen=True)
class Blocking:
    """How a pair is cut into blocks.

    Attributes:
        size: frames of a block.
        shortest: of a short file.
        fewest: blocks, under which a filter is not told from noise.
        most: blocks, which are spread over a long file.
        least_held: of the power that blocks of so many frames usually hold, under which the loudest are taken.
        carries: of the power of the strongest bin, under which a bin is what the window leaks and tells nothing.
        apart: products of noise and signal that one block of a Hann window is worth: Σw⁴ / (Σw²)² times its frames.
        golden_part: of the golden ratio, by whose multiples the blocks are moved, so that none keep step with a tone.
    """

    size: int = 1 << 14
    shortest: int = 1 << 5
    fewest: int = 6
    most: int = 40
    least_held: float = 0.5
    carries: float = 1e-8
    apart: float = 1.944
    golden_part: float = 0.6180339887


BLOCKING = Blocking()
_HANN_POWER = 0.375  # mean square of a Hann window


@dataclass(frozen=True)
class CoherentPart:
    """What blocks of one channel tell of the render's part that follows the reference.

    Attributes:
        own: power of the reference, over all blocks.
        power: of the render's part that is coherent with it, without what noise adds; may be under 0 by chance.
        in_phase: sum of the products of both, with the delay off.
        by_power: variance, by noise and by which blocks were taken, of the logarithm of `power`.
        by_phase: by noise, of that of `in_phase`, squared.
        beyond: of that of the one over the other.
        energy: sum of the squares of the reference's samples that the blocks hold.
    """

    own: float
    power: float
    in_phase: float
    by_power: float
    by_phase: float
    beyond: float
    energy: float

    def by_phase_over(self, energy: float) -> float:
        """The variance `by_phase` where all samples, of so great a sum of squares, are taken without a window."""
        return self.by_phase * self.energy / (BLOCKING.apart * energy)


def coherent_parts(reference: Source, render: Source, delay: float, power: float) -> list[CoherentPart] | None:
    """Of each channel, with a delay in samples off; None where the overlap holds too few blocks.

    Args:
        power: mean square of the reference over the overlap, all channels added up.
    """
    shift = round(delay)
    lo, hi = max(0, -shift), min(reference.frames, render.frames - shift)
    starts, size = _starts(lo, hi)
    if len(starts) < BLOCKING.fewest:
        return None
    sums = _sums(reference, render, shift, starts, size)
    held = 2.0 * float(np.sum(sums.owns)) / (size * _HANN_POWER)
    if len(starts) == BLOCKING.most and held < BLOCKING.least_held * power * len(starts) * size:
        sums = _sums(reference, render, shift, _loudest(reference, lo, hi, size), size)
    bins = size // 2 + 1
    turn = np.exp(1j * np.pi * np.arange(bins) / (bins - 1) * (delay - shift))
    return [sums.part(c, turn, size) for c in range(reference.channels)]


def _sums(reference: Source, render: Source, shift: int, starts: Sequence[int], size: int) -> "_Sums":
    sums = _Sums.empty(reference.channels, size // 2 + 1)
    window = hann(size)[:, np.newaxis]
    for start in starts:
        x, y = (
            fft.rfft((read_padded(side, start + by, start + by + size) * window).T)
            for side, by in ((reference, 0), (render, shift))
        )
        sums.add(x, y)
    return sums


def _loudest(reference: Source, lo: int, hi: int, size: int) -> list[int]:
    """First frames of the blocks, side by side, in which a sparse file is loudest."""
    found = [(float(np.einsum("fc,fc->", part, part)), start)
             for start, part in blocks(reference, lo, hi, size) if len(part) == size]  # fmt: skip
    return [start for _, start in sorted(found, reverse=True)[: BLOCKING.most]]


def _starts(lo: int, hi: int) -> tuple[list[int], int]:
    """First frames of the blocks, and the size of them."""
    size = min(BLOCKING.size, 1 << max(0, int(math.log2(max(1, (hi - lo) // BLOCKING.fewest)))))
    if size < BLOCKING.shortest:
        return [], size
    # Blocks that overlap would share their noise.
    count = min(BLOCKING.most, (hi - lo) // size)
    room = (hi - lo) / count
    moved = [(k * BLOCKING.golden_part) % 1.0 for k in range(count)]
    return [lo + int(k * room + part * (room - size)) for k, part in enumerate(moved)], size


@dataclass(frozen=True)
class _Sums:
    """Over the blocks, of each channel and bin: x and y are spectra of a block of reference and render."""

    own: Floats
    other: Floats
    cross: Spectrum
    fourth: Floats  # |x|⁴
    third: Spectrum  # |x|² x* y
    both: Floats  # |x|² |y|²
    owns: list[Floats]  # of each block by channel, |x|² over the bins
    crosses: list[Spectrum]  # of each block, x* y

    @property
    def count(self) -> int:
        """Of the blocks."""
        return len(self.owns)

    @classmethod
    def empty(cls, channels: int, bins: int) -> "_Sums":
        real, other = (np.zeros((channels, bins), dtype) for dtype in (float, complex))
        return cls(real, real.copy(), other, real.copy(), other.copy(), real.copy(), [], [])

    def add(self, x: Spectrum, y: Spectrum) -> None:
        own, other, cross = x.real**2 + x.imag**2, y.real**2 + y.imag**2, np.conj(x) * y
        for total, each in (
            (self.own, own), (self.other, other), (self.cross, cross),
            (self.fourth, own * own), (self.third, own * cross), (self.both, own * other),
        ):  # fmt: skip
            total += each
        self.owns.append(own.sum(axis=1))
        self.crosses.append(cross)

    def part(self, channel: int, turn: Spectrum, size: int) -> CoherentPart:
        """Of one channel.

        Args:
            turn: that takes a fraction of a sample off the products.
            size: frames of a block.
        """
        carries = self.own[channel] > BLOCKING.carries * self.own[channel].max(initial=0.0)
        own, other, cross = (one[channel, carries] for one in (self.own, self.other, self.cross))
        freedom = self.count - 1.0
        coherent = (cross.real**2 + cross.imag**2) / own
        noise = np.maximum(other - coherent, 0.0) / freedom
        power, in_phase = float((coherent - noise).sum()), float((cross * turn[carries]).real.sum())
        # Noise that is the same throughout, and noise that comes with the signal: whichever pulls more.
        pulls = (own * noise, self._pull(channel, carries) * self.count / freedom)

        def variance(weights: Spectrum) -> float:
            each = weights.real**2 + weights.imag**2
            return 2.0 * BLOCKING.apart * max(float((each * pull).sum()) for pull in pulls)

        by_power = np.conj(cross / own) / power if power > 0.0 else None
        by_phase = turn[carries] / in_phase if in_phase else None
        beyond = None if by_power is None or by_phase is None else by_power - by_phase
        spreads = [math.inf if one is None else variance(one) for one in (by_power, by_phase, beyond)]
        # What of it each block has: a filter does more to one block than to another.
        each = np.array([one[channel, carries] for one in self.crosses])
        share = np.array(self.owns)[:, channel] / max(float(own.sum()), 1e-300)
        if by_power is not None:
            told = (each @ by_power).real * power / max(float(coherent.sum()), 1e-300)
            spreads[0] = max(spreads[0], float(((told - share) ** 2).sum()))
            if by_phase is not None:
                spreads[2] = max(spreads[2], float(((told + share - 2.0 * (each @ by_phase).real) ** 2).sum()))
        energy = 2.0 * float(own.sum()) / (size * _HANN_POWER)
        return CoherentPart(float(own.sum()), power, in_phase, spreads[0], spreads[1], spreads[2], energy)

    def _pull(self, channel: int, carries: NDArray[np.bool_]) -> Floats:
        """By how much noise pulls at the products of each bin: |x|² |y − h x|², over the blocks."""
        third, fourth = self.third[channel, carries], self.fourth[channel, carries]
        gain = self.cross[channel, carries] / self.own[channel, carries]
        pull = self.both[channel, carries] - 2.0 * (np.conj(gain) * third).real
        return np.asarray(np.maximum(pull + (gain.real**2 + gain.imag**2) * fourth, 0.0))
