"""A fault that can be planted into a render, in sizes from next to nothing to gross."""

import math
from collections.abc import Callable
from dataclasses import dataclass

from kind_echo.core.audio.source import Samples
from kind_echo.core.causes.cause import CauseName

Grow = Callable[[float], Samples]
"""From a size to the samples with a fault of that size, of the same shape."""

_SAME_SIZE_RATIO = 1.05  # between sizes that are not told apart
_SAME_SIZE_DB = 0.5  # likewise, of sizes that are levels


@dataclass(frozen=True)
class Fault:
    """A kind of fault.

    Attributes:
        key: what it is called in JSON.
        cause: the cause that a comparison would name.
        title: what it is called on a page.
        unit: of its sizes; empty for one that is there or not.
        least, most: sizes between which it is tried.
        prepare: from samples of shape (frames, channels) and a sample rate in Hz to what plants it; None where it
            has nothing to take hold of, as an exchange of channels in a single one.
        is_level: its sizes are levels in decibels.
        is_count: its sizes are whole numbers.
        moves: by how many samples a size moves sound at most, of so many frames; None for no movement.
        of_claim: it changes the latency that is claimed, and no sample.
    """

    key: str
    cause: CauseName
    title: str
    unit: str
    least: float
    most: float
    prepare: Callable[[Samples, int], Grow | None]
    is_level: bool = False
    is_count: bool = False
    moves: Callable[[float, int], float] | None = None
    of_claim: bool = False

    @property
    def has_size(self) -> bool:
        """Whether there is more or less of it."""
        return self.unit != ""

    def between(self, small: float, large: float) -> float | None:
        """A size to try between two; None where these are as good as equal."""
        if self.is_count:
            if large - small <= max(1.0, (_SAME_SIZE_RATIO - 1) * small):
                return None
            return max(small + 1, float(round((small * large) ** 0.5)))
        if self.is_level:
            return None if large - small <= _SAME_SIZE_DB else (small + large) / 2
        return None if large / small <= _SAME_SIZE_RATIO else (small * large) ** 0.5

    def scaled(self, size: float, decibels: float) -> float:
        """A size that is so many decibels greater; the next whole number where there are no others."""
        if self.is_level:
            return size + decibels
        scaled = size * 10 ** (decibels / 20)
        return float(round(scaled)) if self.is_count else scaled

    def as_fine(self, size: float, wanted: float) -> bool:
        """Whether a size is no greater than another, as far as sizes are told apart."""
        if self.is_level:
            return size <= wanted + _SAME_SIZE_DB
        return size <= wanted * _SAME_SIZE_RATIO

    def excess(self, size: float, wanted: float) -> float:
        """By how many decibels a size is over another; negative for one that is finer."""
        return size - wanted if self.is_level else 20.0 * math.log10(size / wanted)
