"""The delay between two files within a few samples that the caller knows it to lie in.

A tone has a delay then too: the one within reach. Correlation alone tells it.
"""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.audio.correlation import (
    NEIGHBOURHOOD,
    Correlation,
    Floats,
    MapFunction,
    correlate,
    refine,
    uncertainty,
)
from kind_echo.core.audio.source import Source
from kind_echo.core.delays.delay_reading import Delay, correlation_near, no_delay, sharpen

_HELD_POWER_SHARE = 0.5  # of the power per frame that the frames of a sharpened delay must hold
_AMBIGUOUS_RATIO = 0.98  # another lag that correlates within 2 % of the best
_DIP_RATIO = 0.9  # between two periods the correlation falls below this
_PERIOD_SECONDS = 0.06  # periods longer than this are events that repeat, told apart by how many overlap
_CERTAIN_CORRELATION = 0.5  # correlation coefficient that unrelated signals of useful length do not reach
_STANDS_OUT_RMS = 7.0  # times the RMS of the correlation; the greatest of 10⁶ Gaussian values is 5.3


def find_delays_within(
    reference: Source, render: Source, max_delay: int, spread: MapFunction = map
) -> tuple[Delay, list[Delay]]:
    """The delay that all channels share, and that of each channel, at most `max_delay` frames to either side.

    Source:
        C. H. Knapp and G. C. Carter, The generalized correlation method for estimation of time delay, IEEE Trans.
        ASSP 24 (1976). The correlation is refined by band-limited interpolation.
    """
    longest = max(reference.frames, render.frames) - 1
    reach = min(longest, max_delay)
    whole = correlate(reference, render, min(longest, reach + NEIGHBOURHOOD))
    overall, each = _Search(reach, reference.rate, min(reference.frames, render.frames)).find_all(whole)
    found = correlation_near(reference, render, overall, spread)
    if found is None or found.own.sum() / found.frames < _HELD_POWER_SHARE * whole.own.sum() / whole.frames:
        return overall, each
    return sharpen(found, overall, each)


@dataclass(frozen=True)
class _Search:
    """How far to look to either side."""

    reach: int
    rate: int
    frames: int

    def find_all(self, found: Correlation) -> tuple[Delay, list[Delay]]:
        """Delays of all channels and of each."""
        lags = found.lags
        scales = np.sqrt(found.own * found.other[len(lags) // 2])
        # Channels may have opposite polarity, so their correlations are folded to one sign before they are added.
        signs = np.sign(lags[np.abs(lags).argmax(axis=0), range(lags.shape[1])])
        keep = signs != 0
        common = (lags[:, keep] * (signs[keep] * signs[keep][:1])).sum(axis=1)
        scale = float(scales[keep].sum())
        return self.find(common, scale), [self.find(lags[:, c], float(own)) for c, own in enumerate(scales)]

    def find(self, correlation: Floats, scale: float) -> Delay:
        """The delay in one correlation, whose greatest possible value is `scale`."""
        if scale <= 0.0:
            return no_delay("silence")
        middle = len(correlation) // 2
        inside = correlation[middle - self.reach : middle + self.reach + 1]
        magnitude = np.abs(inside)
        best = self._best(inside, magnitude)
        coefficient = float(magnitude[best]) / scale
        if self.reach == 0 or not self._related(magnitude, best, coefficient):
            return no_delay("unrelated")
        if self._periodic(inside, best):
            return no_delay("periodic")
        lag = best - self.reach
        sign = 1 if inside[best] > 0 else -1
        fraction, peak, bandwidth = refine(sign * correlation, middle + lag)
        return Delay(lag + fraction, sign, uncertainty(peak / scale, self.frames, bandwidth))

    def _best(self, inside: Floats, magnitude: Floats) -> int:
        best = int(np.argmax(magnitude))
        upright = int(np.argmax(inside))
        interior = 0 < upright < len(inside) - 1
        # A tone inverted and a tone half a period late are one signal: the upright reading is taken.
        return upright if interior and inside[upright] >= _AMBIGUOUS_RATIO * magnitude[best] else best

    def _periodic(self, inside: Floats, best: int) -> bool:
        """Whether another lag within a period of hearing correlates as well, with a dip between the two."""
        near = round(_PERIOD_SECONDS * self.rate)
        sides = (inside[best : best + near + 1], inside[max(0, best - near) : best + 1][::-1])
        return any(self._rival(side * np.sign(inside[best])) for side in sides)

    def _rival(self, side: Floats) -> bool:
        """Walking away from the best lag, side[0]: does the correlation fall, and come back?"""
        # A limited search says that half a period is out of the question, so the other sign is no rival.
        lags = np.arange(len(side))
        # Fewer frames overlap at a greater lag; a period later a tone correlates less for that reason alone.
        share = side / side[0] * self.frames / np.maximum(self.frames - lags, 1)
        dipped = np.minimum.accumulate(share) < _DIP_RATIO
        return bool((dipped & (share >= _AMBIGUOUS_RATIO)).any())

    def _related(self, magnitude: Floats, best: int, coefficient: float) -> bool:
        if coefficient >= _CERTAIN_CORRELATION:
            return True
        return float(magnitude[best]) >= _STANDS_OUT_RMS * float(np.sqrt(np.mean(np.square(magnitude))))
