"""How much later the render is than the reference, to a hundredth of a sample, and with which polarity."""

from dataclasses import dataclass, replace

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.correlation import (
    NEIGHBOURHOOD,
    Correlation,
    Floats,
    Spread,
    correlate,
    refine,
    uncertainty,
)
from kind_echo.core.source import Rows, Source, as_rows, blocks, read_padded

Singles = NDArray[np.float32]

MAX_REACH = 1 << 19
"""Frames searched to either side unless told otherwise: 10.9 s at 48 kHz."""

_LONG = 1 << 20  # frames beyond which a delay is sought with an excerpt first, then refined on parts of the file

_EXCERPT = 1 << 17  # frames of the loudest stretch, laid over the render first where a file is long
_NARROW = 1 << 11  # lags to either side of what the excerpt found
_PARTS = 16  # blocks of 2^16 frames of a long file from which its delay is refined
_UNRIVALLED = 0.9  # of the excerpt's best correlation; a rival above it sends the whole files through the search

_LEAST_INSIDE = 1 << 11  # frames from which a delay is sharpened
_MOST = 0.5  # of the power per frame that these must hold
_WHOLE = 1e-5  # of a sample: what rounding makes of a delay of whole samples
_NEAR_ENOUGH = 128  # lags on either side that a refinement needs
_AMBIGUOUS = 0.98  # another lag that correlates within 2 % of the best
_DIP = 0.9  # between two periods the correlation falls below this
_PERIOD_SECONDS = 0.06  # periods longer than this are events that repeat, told apart by how many overlap
_CERTAIN = 0.5  # correlation coefficient that unrelated signals of useful length do not reach
_STANDS_OUT = 7.0  # times the RMS of the correlation; the greatest of 10⁶ Gaussian values is 5.3


@dataclass(frozen=True)
class Delay:
    """Where the render lies against the reference.

    Attributes:
        samples: positive when the render is later; None when it cannot be had.
        polarity: +1 or −1; None with the delay.
        uncertainty: of samples, at 95 %.
        why: reason for no delay.
    """

    samples: float | None
    polarity: int | None = None
    uncertainty: float | None = None
    why: str | None = None


def find_delays(
    reference: Source,
    render: Source,
    max_delay: int | None = None,
    spread: Spread = map,
) -> tuple[Delay, list[Delay]]:
    """The delay that all channels share, and that of each channel.

    Args:
        reference, render: same rate and channels, finite.
        max_delay: the search is kept within this many frames to either side.
        spread: does the pieces that a long file is searched in.
    Source:
        C. H. Knapp and G. C. Carter, The generalized correlation method for estimation of time delay, IEEE Trans.
        ASSP 24 (1976). The correlation is refined by band-limited interpolation.
    """
    longest = max(reference.frames, render.frames) - 1
    reach = min(longest, MAX_REACH if max_delay is None else max_delay)
    if max_delay is None and min(reference.frames, render.frames) > _LONG:
        centre = _excerpt_lag(reference, render, reach, spread)
        found = None if centre is None else _near(reference, render, centre, spread)
        if found is not None:
            return found
    whole = correlate(reference, render, min(longest, reach + NEIGHBOURHOOD))
    search = _Search(reach, 0, reference.rate, min(reference.frames, render.frames), max_delay is not None)
    overall, each, _ = search.find_all(whole)
    return _sharpened(reference, render, (overall, each), whole, spread)


def _excerpt_lag(reference: Source, render: Source, reach: int, spread: Spread) -> int | None:
    """Where the loudest stretch of the reference lies in the render, in whole samples; None when that is in doubt."""
    powers = [_power(as_rows(block)) for _, block in blocks(reference, size=_EXCERPT)]
    start = int(np.argmax(powers)) * _EXCERPT
    stop = min(start + _EXCERPT, reference.frames)
    x = reference.read(start, stop)
    channel = int(np.square(x).sum(axis=0).argmax())
    y = read_padded(render, start - reach, stop + reach)[:, channel].astype(np.float32)
    # 24 bits do for finding a place; the delay itself is refined in 53.
    strength = np.abs(_slide(x[:, channel].astype(np.float32), y, spread))
    best = int(strength.argmax())
    away = np.concatenate([strength[: max(0, best - _NARROW)], strength[best + _NARROW + 1 :]])
    if strength[best] <= 0.0 or away.max(initial=0.0) > _UNRIVALLED * strength[best]:
        return None
    return best - reach


def _power(rows: Rows) -> float:
    return float(np.einsum("cf,cf->", rows, rows))


def _slide(x: Singles, y: Singles, spread: Spread) -> Singles:
    """Sum of x times what of y it lies over, at each place that it has in y; shape (len(y) − len(x) + 1,).

    By overlap-save, in pieces that the cache holds.
    """
    size = 1 << (2 * len(x) - 1).bit_length()
    step, places = size - len(x) + 1, len(y) - len(x) + 1
    spectrum = np.conj(fft.rfft(x, size))

    def piece(a: int) -> Singles:
        return np.asarray(fft.irfft(fft.rfft(y[a : a + size], size) * spectrum, size)[:step])

    return np.concatenate(list(spread(piece, range(0, places, step))))[:places]


def _near(reference: Source, render: Source, centre: int, spread: Spread) -> tuple[Delay, list[Delay]] | None:
    """Delays near a lag, from parts of a long file; None when there is doubt."""
    within = _inside(reference, render, centre, _NARROW + NEIGHBOURHOOD)
    if within is None:
        return None
    found = correlate(reference, render, _NARROW + NEIGHBOURHOOD, centre, _PARTS, spread, within)
    search = _Search(_NARROW, centre, reference.rate, found.frames, narrowed=False)
    overall, each, coefficient = search.find_all(found)
    if overall.samples is None or coefficient < _CERTAIN:
        return None
    return _refined(found, centre, overall, each)


def _sharpened(
    reference: Source, render: Source, delays: tuple[Delay, list[Delay]], whole: Correlation, spread: Spread
) -> tuple[Delay, list[Delay]]:
    """The delays once more, from frames that have a partner at every lag near by.

    Among all lags the ends of the files count: fewer frames overlap at one lag than at the next, which pulls the peak.
    """
    overall, each = delays
    if overall.samples is None:
        return delays
    centre = round(overall.samples)
    within = _inside(reference, render, centre, NEIGHBOURHOOD)
    if within is None:
        return delays
    found = correlate(reference, render, NEIGHBOURHOOD, centre, _PARTS, spread, within)
    if found.own.sum() / found.frames < _MOST * whole.own.sum() / whole.frames:
        return delays
    return _refined(found, centre, overall, each)


def _inside(reference: Source, render: Source, lag: int, span: int) -> tuple[int, int] | None:
    """Frames of the reference that meet frames of the render at every lag within `span` of one; None for too few."""
    lo, hi = max(0, span - lag), min(reference.frames, render.frames - lag - span)
    return (lo, hi) if hi - lo >= _LEAST_INSIDE else None


def _refined(found: Correlation, centre: int, overall: Delay, each: list[Delay]) -> tuple[Delay, list[Delay]]:
    """The delays from a correlation of which each lag is summed over the same frames of the reference."""
    scales = np.sqrt(found.own * found.other)
    signs = np.array([delay.polarity or 0 for delay in each])
    together = _sharp(overall, centre, found.lags @ signs, scales @ np.abs(signs), found.frames)
    apart = [
        _sharp(delay, centre, found.lags[:, c] * signs[c], scales[:, c], found.frames) for c, delay in enumerate(each)
    ]
    return together, apart


def _sharp(delay: Delay, centre: int, lags: Floats, scale: Floats, frames: int) -> Delay:
    """One delay from a correlation that is positive at its peak, and the greatest that it could be at each lag."""
    if delay.samples is None:
        return delay
    at = len(lags) // 2 + round(delay.samples) - centre
    if not _NEAR_ENOUGH <= at < len(lags) - _NEAR_ENOUGH or scale.min() <= 0.0:
        return delay
    fraction, peak, bandwidth = refine(lags / scale, at)
    if abs(fraction) >= 1.0:
        return delay
    if abs(fraction) < _WHOLE:
        fraction = 0.0
    return replace(
        delay,
        samples=centre + at - len(lags) // 2 + fraction,
        uncertainty=uncertainty(peak, frames, bandwidth),
    )


@dataclass(frozen=True)
class _Search:
    """How far to look to either side of a lag; narrowed when the caller limits the reach."""

    reach: int
    centre: int
    rate: int
    frames: int
    narrowed: bool

    def find_all(self, found: Correlation) -> tuple[Delay, list[Delay], float]:
        """Delays of all channels and of each, and the correlation coefficient of the first."""
        lags = found.lags
        scales = np.sqrt(found.own * found.other[len(lags) // 2])
        # Channels may have opposite polarity, so their correlations are folded to one sign before they are added.
        signs = np.sign(lags[np.abs(lags).argmax(axis=0), range(lags.shape[1])])
        keep = signs != 0
        common = (lags[:, keep] * (signs[keep] * signs[keep][:1])).sum(axis=1)
        scale = float(scales[keep].sum())
        overall = self.find(common, scale)
        each = [self.find(lags[:, c], float(own)) for c, own in enumerate(scales)]
        middle = len(common) // 2
        inside = np.abs(common[middle - self.reach : middle + self.reach + 1])
        return overall, each, float(inside.max(initial=0.0)) / scale if scale > 0 else 0.0

    def find(self, correlation: Floats, scale: float) -> Delay:
        """The delay in one correlation, whose greatest possible value is `scale`."""
        if scale <= 0.0:
            return Delay(None, why="one side is silent")
        middle = len(correlation) // 2
        inside = correlation[middle - self.reach : middle + self.reach + 1]
        magnitude = np.abs(inside)
        best = self._best(inside, magnitude)
        coefficient = float(magnitude[best]) / scale
        if self.reach == 0 or not self._related(magnitude, best, coefficient):
            return Delay(None, why="nothing in the render correlates with the reference")
        if self._periodic(inside, best):
            return Delay(None, why="the signal is periodic: the delay is known up to whole periods only")
        lag = best - self.reach
        sign = 1 if inside[best] > 0 else -1
        fraction, peak, bandwidth = refine(sign * correlation, middle + lag)
        return Delay(self.centre + lag + fraction, sign, uncertainty(peak / scale, self.frames, bandwidth))

    def _best(self, inside: Floats, magnitude: Floats) -> int:
        best = int(np.argmax(magnitude))
        upright = int(np.argmax(inside))
        interior = 0 < upright < len(inside) - 1
        # A tone inverted and a tone half a period late are one signal: the upright reading is taken.
        return upright if interior and inside[upright] >= _AMBIGUOUS * magnitude[best] else best

    def _periodic(self, inside: Floats, best: int) -> bool:
        """Whether another lag within a period of hearing correlates as well, with a dip between the two."""
        near = round(_PERIOD_SECONDS * self.rate)
        sides = (inside[best : best + near + 1], inside[max(0, best - near) : best + 1][::-1])
        return any(self._rival(side * np.sign(inside[best])) for side in sides)

    def _rival(self, side: Floats) -> bool:
        """Walking away from the best lag, side[0]: does the correlation fall, and come back?"""
        # A narrowed search says that half a period is out of the question, so the other sign is no rival.
        strength = side if self.narrowed else np.abs(side)
        lags = np.arange(len(side))
        # Fewer frames overlap at a greater lag; a period later a tone correlates less for that reason alone.
        share = strength / strength[0] * self.frames / np.maximum(self.frames - lags, 1)
        dipped = np.minimum.accumulate(share) < _DIP
        return bool((dipped & (share >= _AMBIGUOUS)).any())

    def _related(self, magnitude: Floats, best: int, coefficient: float) -> bool:
        if coefficient >= _CERTAIN:
            return True
        return float(magnitude[best]) >= _STANDS_OUT * float(np.sqrt(np.mean(np.square(magnitude))))
