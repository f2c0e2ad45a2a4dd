"""The first stages of an explanation: a pair and what is known of it, laid side by side in excerpts."""

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, Aligner, Alignment
from kind_echo.core.audio.source import Source
from kind_echo.core.audio.warping import WarpedSource
from kind_echo.core.causes.excerpts import Excerpt, best_gain, take_excerpts
from kind_echo.core.causes.explained import ComparedFacts
from kind_echo.core.causes.filtering import REACH
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.registry.readings import value_of

Floats = NDArray[np.float64]

_MASKED_SECONDS = 0.002  # to either side of a click: what a filter makes of it
_MASKED_FRAMES = 4  # to either side of a gap: its edges


@dataclass(frozen=True)
class Pair:
    """Two sides, and what comparing them has found already."""

    reference: Source
    lay: Aligner
    known: ComparedFacts

    @property
    def channels(self) -> int:
        """As many as the reference has."""
        return self.reference.channels

    @property
    def missing(self) -> list[int]:
        """Channels that are silent in the render alone."""
        return self._flagged("channel_missing")

    @property
    def heard(self) -> list[int]:
        """Channels that sound."""
        missing = self.missing
        return [c for c in range(self.channels) if c not in missing]

    @property
    def is_swapped(self) -> bool:
        """Whether two channels stand in each other's place."""
        return len(self._flagged("channel_swap")) == 2 == self.channels

    def _flagged(self, measure: str) -> list[int]:
        return [c for c in range(self.channels) if value_of(self.known.readings, measure, str(c + 1)) == 1.0]


@dataclass(frozen=True)
class LinedUp:
    """The same stretches of a pair, channel by channel.

    Attributes:
        source: the render as it was lined up.
        raw: as rendered.
        lined: with delay and drift off, and swapped channels in their places.
    """

    source: AlignedSource
    raw: list[Excerpt]
    lined: list[Excerpt]

    @property
    def signs(self) -> list[float]:
        """−1 for a channel that is inverted."""
        return [-1.0 if best_gain(one) < 0.0 else 1.0 for one in self.lined]


def line_up(pair: Pair, *, fine: bool = True, delay: float | None = None) -> LinedUp | None:
    """A pair in excerpts; None where the alignment leaves no overlap.

    Args:
        fine: with fractions of a sample of the delay off too.
        delay: samples; None for what was found.
    """
    known, reference, lay = pair.known, pair.reference, pair.lay
    delay = (known.delay or 0.0) if delay is None else delay
    whole = round(delay)
    fraction = delay - whole if fine and abs(delay - whole) > 1e-3 else 0.0
    source = lay.at(Alignment(whole, 0.0 if known.drift else fraction))
    if known.drift:
        warped = WarpedSource(lay.render, delay, known.drift, reference.frames)
        source = replace(source, render=warped, alignment=Alignment(), advanced=None)
    after = take_excerpts(reference, source, REACH)
    if not after:
        return None
    starts, size = after[0].starts, after[0].y.shape[1]
    untouched = lay.at(Alignment())
    stretches = np.stack([np.asarray(untouched.read(start, start + size)) for start in starts])
    before = [replace(one, y=np.ascontiguousarray(stretches[:, :, c])) for c, one in enumerate(after)]
    return LinedUp(source, before, crossed(after) if pair.is_swapped else after)


def crossed(excerpts: list[Excerpt]) -> list[Excerpt]:
    """Two channels, each with the render's other."""
    return [replace(one, y=other.y) for one, other in zip(excerpts, excerpts[::-1], strict=True)]


def without_events(one: Excerpt, known: ComparedFacts) -> Excerpt:
    """An excerpt with gaps and clicks left out: they count for nothing, and models see what was to come there."""
    weight, level, spoilt = one.weight.copy(), abs(best_gain(one)), False
    for row, start in enumerate(one.starts):
        for first, last, fades in _spoilt(one, known):
            lo, hi = max(0, first - _MASKED_FRAMES - start), min(weight.shape[1], last + _MASKED_FRAMES - start)
            if hi <= lo or (fades and not _is_faded(one, level, row, slice(lo, hi))):
                continue
            weight[row, lo:hi] = 0.0
            spoilt = True
    if not spoilt:
        return one
    power = one.inner**2 * one.weight
    if float((power * weight).sum()) < NAMING.least_unmasked * float(power.sum()):
        return one  # of clicks and impulses nothing would be left
    good = replace(one, weight=weight)
    gain = best_gain(good)
    return replace(good, y=np.where(weight > 0, one.y, gain * one.inner))


def _spoilt(one: Excerpt, known: ComparedFacts) -> Iterator[tuple[int, int, bool]]:
    """First frame and end of each gap and click of any channel, and whether a channel has part in it only if it fades.

    What spoils one channel may spoil another a little less than is counted.
    """
    reach = max(8, round(_MASKED_SECONDS * one.rate))
    for gap in known.gaps:
        yield gap.start, gap.start + gap.length, True
    for steps in known.clicks:
        for frame in steps:
            yield frame - reach, frame + reach, False


def _is_faded(one: Excerpt, level: float, row: int, part: slice) -> bool:
    """Whether the render is clearly softer in a part than its level elsewhere makes it."""
    return bool(np.linalg.norm(one.y[row, part]) <= NAMING.faded * level * np.linalg.norm(one.inner[row, part]))
