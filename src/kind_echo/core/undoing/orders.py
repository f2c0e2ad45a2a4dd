"""Which tones a reference is a sum of, and which order of them lies at a frequency."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.audio.transforms import hann

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class JudgingOrders:
    """When a line is told to be an order: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_sources, least_source: tones that a reference may be made of, and their share of its power.
        mostly: of its power, that they have together.
        most_order, most_sums: of one tone, and of two.
        least_odd: of the power of a reference, that its third orders have where it has odd orders alone.
        odd: times the power of its second orders, that they have then.
        own_hertz, own_bins: of a tone of the reference, the greater, within which a line is what became of that tone.
        near_hertz, near: of its own, within which a line lies where an order does.
    """

    most_sources: int = 2
    least_source: float = 0.02
    mostly: float = 0.7
    most_order: int = 120
    most_sums: int = 11
    least_odd: float = 1e-7
    odd: float = 1e4
    own_hertz: float = 0.5
    own_bins: float = 8.0
    near_hertz: float = 0.02
    near: float = 2e-6


ORDERS = JudgingOrders()


@dataclass(frozen=True)
class Tones:
    """The one or two tones that a reference is made of, none where it is no sum of tones.

    Attributes:
        width: of a bin of the transform that they were told from, in Hz.
        is_odd: whether it has orders of them, and odd ones alone, as of a curve that is the same for both signs.
    """

    hertz: list[float]
    rate: int
    is_odd: bool = False
    width: float = 0.0

    def has(self, hertz: float) -> bool:
        """Whether a frequency is that of a tone of the reference, or as near as what a break of the tone leaves."""
        return any(abs(hertz - own) < max(ORDERS.own_hertz, ORDERS.own_bins * self.width) for own in self.hertz)


def sources_of(power: Floats, width: float) -> list[tuple[float, float]]:
    """The one or two tones that a reference is made of, and their power; empty where it is no sum of tones.

    Args:
        power: of the reference's bins.
        width: of a bin, in Hz.
    """
    total, rest = float(power.sum()), power.copy()
    found: list[tuple[float, float]] = []
    while len(found) < ORDERS.most_sources:
        top = int(rest.argmax())
        near = slice(max(0, top - 3), top + 4)
        mine = float(rest[near].sum())
        if mine <= 0.0 or mine < ORDERS.least_source * total:
            break
        weights = rest[near]
        hertz = float(np.average(np.arange(near.start, near.start + len(weights)), weights=weights)) * width
        rest[near] = 0.0
        if not any(abs(hertz - round(hertz / f) * f) < 3 * width for f, _ in found):
            found.append((hertz, mine))
    return found if total > 0.0 and sum(mine for _, mine in found) > ORDERS.mostly * total else []


def is_tonal(reference: Source) -> bool:
    """Whether a reference is a sum of one or two tones and little else."""
    size = min(reference.frames, 1 << 17)
    lo = (reference.frames - size) // 2
    samples = reference.read(lo, lo + size)
    power = np.square(np.abs(fft.rfft(samples * hann(size)[:, None], axis=0))).sum(axis=1)
    return bool(sources_of(power, reference.rate / size))


def order_of(hertz: float, tones: Tones) -> tuple[int, bool] | None:
    """The least order of the tones that lies at a frequency, and whether it folds; None for none, and for a tone."""
    sources, rate = tones.hertz, tones.rate
    if not sources or tones.has(hertz):
        return None
    most = ORDERS.most_order if len(sources) == 1 else ORDERS.most_sums
    best: tuple[int, bool] | None = None
    for first in range(0 if len(sources) > 1 else 2, most + 1):
        for second in range(-most, most + 1) if len(sources) > 1 else (0,):
            order = first + abs(second)
            if not 2 <= order <= most or (best is not None and order >= best[0]) or (tones.is_odd and order % 2 == 0):
                continue
            at = abs(first * sources[0] + (second * sources[1] if len(sources) > 1 else 0.0))
            into = abs(at - rate * round(at / rate))
            if abs(into - hertz) < ORDERS.near_hertz + ORDERS.near * at:
                best = order, at > rate / 2
    return best


def tones_of(power: Floats, size: int, rate: int) -> Tones:
    """What a reference is made of.

    Args:
        power: of the bins of a transform of `size` frames.
    """
    width = rate / size
    hertz = [hertz for hertz, _ in sources_of(power, width)]

    def at(*places: float) -> float:
        bins = [round(place / width) for place in places if 4 * width < place < rate / 2 - 4 * width]
        return sum(float(power[k - 3 : k + 4].sum()) for k in bins)

    if not hertz:
        return Tones([], rate)
    one, other = hertz[0], hertz[-1]
    odd = at(3 * one) if len(hertz) == 1 else at(abs(2 * one - other), abs(2 * other - one))
    even = at(2 * one) if len(hertz) == 1 else at(abs(one - other), one + other)
    return Tones(
        hertz, rate, width=width, is_odd=odd > ORDERS.least_odd * float(power.sum()) and odd > ORDERS.odd * even
    )
