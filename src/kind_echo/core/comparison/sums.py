"""Renders added up and taken off: the bands of a splitter against what went in."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.audio.source import Samples, Source, read_padded
from kind_echo.core.comparison.pair import check_pair


@dataclass(frozen=True)
class SummedSource:
    """The sum of renders less others, sample by sample; as long as the longest.

    Raises:
        RateMismatch, ChannelMismatch: they cannot be compared sample by sample.
    """

    added: tuple[Source, ...]
    taken_off: tuple[Source, ...] = ()

    def __post_init__(self) -> None:
        for other in self._all[1:]:
            check_pair(self.added[0], other)

    @property
    def _all(self) -> tuple[Source, ...]:
        return self.added + self.taken_off

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self.added[0].rate

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.added[0].channels

    @property
    def frames(self) -> int:
        """Length of the longest."""
        return max(source.frames for source in self._all)

    @property
    def half_step(self) -> float:
        """Half a step of the coarsest."""
        return max(source.half_step for source in self._all)

    @property
    def rail(self) -> float:
        """A sum has no rail of its own."""
        return 1.0

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop of the sum."""
        total = np.zeros((stop - start, self.channels))
        for source in self.added:
            total += read_padded(source, start, stop)
        for source in self.taken_off:
            total -= read_padded(source, start, stop)
        return total
