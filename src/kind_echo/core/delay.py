"""How much later the render is than the reference, to a hundredth of a sample, and with which polarity."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.source import Rows, Source, as_rows, blocks, read_padded
from kind_echo.core.transforms import fast_length

Floats = NDArray[np.float64]

Correlation = NDArray[np.float64]
"""Cross-correlation, shape (2·span + 1, channels); row span + k holds lag k: sum of reference[i] · render[i + k]."""

Singles = NDArray[np.float32]

Spread = Callable[..., Iterable[Any]]
"""How pieces of work are done: `map`, or that of a pool of threads."""

MAX_REACH = 1 << 19
"""Frames searched to either side unless told otherwise: 10.9 s at 48 kHz."""

_LONG = 1 << 20  # frames beyond which a delay is sought with an excerpt first, then refined on parts of the file

_EXCERPT = 1 << 17  # frames of the loudest stretch, laid over the render first where a file is long
_NARROW = 1 << 11  # lags to either side of what the excerpt found
_PARTS = 16  # blocks of 2^16 frames of a long file from which its delay is refined
_UNRIVALLED = 0.9  # of the excerpt's best correlation; a rival above it sends the whole files through the search

_NEIGHBOURHOOD = 512  # lags to either side from which the delay is refined below a sample
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


def correlate(
    reference: Source, render: Source, span: int, centre: int = 0, parts: int | None = None, spread: Spread = map
) -> tuple[Correlation, int, tuple[NDArray[np.float64], NDArray[np.float64]]]:
    """Cross-correlation at lags centre − span … centre + span, a block at a time.

    Over all frames, or over so many blocks spread over the file; with the frames that these cover, and the sums of
    squares of reference and render in them.

    Args:
        spread: asked for all blocks at once, which then are held together.
    """
    frames = reference.frames
    size = fast_length(min(frames, max(2 * span, 1 << 16)) + 2 * span)
    step = size - 2 * span
    total = np.zeros((reference.channels, size // 2 + 1), dtype=np.complex128)
    starts = list(range(0, frames, step))
    if parts is not None and len(starts) > parts:
        starts = [starts[int(i)] for i in np.linspace(0, len(starts) - 1, parts)]
    covered = 0
    ex, ey = np.zeros(reference.channels), np.zeros(reference.channels)

    def crossed(start: int) -> tuple[int, Floats, Floats, NDArray[np.complex128]]:
        x = as_rows(reference.read(start, min(start + step, frames)))
        y = as_rows(read_padded(render, start - span + centre, start + step + span + centre))
        here = y[:, span : span + x.shape[1]]
        spectrum = fft.rfft(x, size)
        np.conj(spectrum, out=spectrum)
        spectrum *= fft.rfft(y, size)
        return x.shape[1], np.einsum("cf,cf->c", x, x), np.einsum("cf,cf->c", here, here), spectrum

    for length, own, other, spectrum in spread(crossed, starts):
        covered += length
        ex += own
        ey += other
        total += spectrum
    return np.asarray(fft.irfft(total, size).T[: 2 * span + 1]), covered, (ex, ey)


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
        ASSP 24 (1976). The correlation is refined by band-limited interpolation; its uncertainty is the bound for
        white noise, whose power is taken from what does not correlate.
    """
    longest = max(reference.frames, render.frames) - 1
    reach = min(longest, MAX_REACH if max_delay is None else max_delay)
    if max_delay is None and min(reference.frames, render.frames) > _LONG:
        centre = _excerpt_lag(reference, render, reach, spread)
        if centre is not None:
            found = _search(reference, render, _NARROW, centre, narrowed=False, parts=_PARTS, spread=spread)
            if found[0].samples is not None and found[2] >= _CERTAIN:
                return found[0], found[1]
    overall, each, _ = _search(reference, render, reach, 0, narrowed=max_delay is not None)
    return overall, each


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


def _search(
    reference: Source,
    render: Source,
    reach: int,
    centre: int,
    *,
    narrowed: bool,
    parts: int | None = None,
    spread: Spread = map,
) -> tuple[Delay, list[Delay], float]:
    """Delays of all channels and of each, within `reach` of `centre`, and the correlation coefficient of the first."""
    longest = max(reference.frames, render.frames) - 1
    span = min(longest, reach + _NEIGHBOURHOOD) if centre == 0 else reach + _NEIGHBOURHOOD
    correlation, covered, (ex, ey) = correlate(reference, render, span, centre, parts, spread)
    # Channels may have opposite polarity, so their correlations are folded to one sign before they are added.
    strongest = np.abs(correlation).max(axis=0)
    signs = np.sign(correlation[np.abs(correlation).argmax(axis=0), range(correlation.shape[1])])
    keep = strongest > 0
    common = (correlation[:, keep] * (signs[keep] * signs[keep][:1])).sum(axis=1)
    scale = float(np.sqrt(ex * ey)[keep].sum())
    view = _Search(reach, span, centre, reference.rate, min(covered, render.frames), narrowed)
    overall = view.find(common, scale)
    each = [view.find(correlation[:, c], float(np.sqrt(ex[c] * ey[c]))) for c in range(len(ex))]
    inside = np.abs(common[span - reach : span + reach + 1])
    return overall, each, float(inside.max(initial=0.0)) / scale if scale > 0 else 0.0


@dataclass(frozen=True)
class _Search:
    """How far to look, in a correlation of span lags to either side; narrowed when the caller limits the reach."""

    reach: int
    span: int
    centre: int
    rate: int
    frames: int
    narrowed: bool

    def find(self, correlation: NDArray[np.float64], scale: float) -> Delay:
        if scale <= 0.0:
            return Delay(None, why="one side is silent")
        inside = correlation[self.span - self.reach : self.span + self.reach + 1]
        magnitude = np.abs(inside)
        best = self._best(inside, magnitude)
        coefficient = float(magnitude[best]) / scale
        if self._periodic(inside, best):
            return Delay(None, why="the signal is periodic: the delay is known up to whole periods only")
        if self.reach == 0 or not self._related(magnitude, best, coefficient):
            return Delay(None, why="nothing in the render correlates with the reference")
        lag = best - self.reach
        sign = 1 if inside[best] > 0 else -1
        fraction, peak, bandwidth = refine(sign * correlation, self.span + lag)
        unrelated = max(0.0, 1.0 - (peak / scale) ** 2)
        spread = np.sqrt(unrelated / ((peak / scale) ** 2 * self.frames * bandwidth)) if bandwidth > 0 else 0.5
        return Delay(self.centre + lag + fraction, sign, float(2.0 * spread))

    def _best(self, inside: NDArray[np.float64], magnitude: NDArray[np.float64]) -> int:
        best = int(np.argmax(magnitude))
        upright = int(np.argmax(inside))
        interior = 0 < upright < len(inside) - 1
        # A tone inverted and a tone half a period late are one signal: the upright reading is taken.
        return upright if interior and inside[upright] >= _AMBIGUOUS * magnitude[best] else best

    def _periodic(self, inside: NDArray[np.float64], best: int) -> bool:
        """Whether another lag within a period of hearing correlates as well, with a dip between the two."""
        near = round(_PERIOD_SECONDS * self.rate)
        sides = (inside[best : best + near + 1], inside[max(0, best - near) : best + 1][::-1])
        return any(self._rival(side * np.sign(inside[best])) for side in sides)

    def _rival(self, side: NDArray[np.float64]) -> bool:
        """Walking away from the best lag, side[0]: does the correlation fall, and come back?"""
        # A narrowed search says that half a period is out of the question, so the other sign is no rival.
        strength = side if self.narrowed else np.abs(side)
        lags = np.arange(len(side))
        # Fewer frames overlap at a greater lag; a period later a tone correlates less for that reason alone.
        share = strength / strength[0] * self.frames / np.maximum(self.frames - lags, 1)
        dipped = np.minimum.accumulate(share) < _DIP
        return bool((dipped & (share >= _AMBIGUOUS)).any())

    def _related(self, magnitude: NDArray[np.float64], best: int, coefficient: float) -> bool:
        if coefficient >= _CERTAIN:
            return True
        return float(magnitude[best]) >= _STANDS_OUT * float(np.sqrt(np.mean(np.square(magnitude))))


def refine(correlation: NDArray[np.float64], centre: int) -> tuple[float, float, float]:
    """Fraction of a sample by which the peak lies beyond `centre`, its height, and the mean square frequency.

    The correlation is a band-limited function of the lag, so its peak follows from its spectrum by Newton's method.
    """
    around = min(_NEIGHBOURHOOD, centre, len(correlation) - 1 - centre)
    size = 4 * _NEIGHBOURHOOD
    lags = np.arange(-around, around + 1)
    taper = np.clip(2.0 * (1.0 - np.abs(lags) / (around + 1)), 0.0, 1.0)
    padded = np.zeros(size)
    padded[lags % size] = correlation[centre + lags] * (0.5 - 0.5 * np.cos(np.pi * taper))
    spectrum = fft.rfft(padded)
    omega = 2 * np.pi * np.arange(len(spectrum)) / size
    spectrum[1:-1] *= 2.0
    spectrum[-1] = 0.0
    fraction = 0.0
    for _ in range(30):
        turned = spectrum * np.exp(1j * omega * fraction)
        slope, bend = -float((omega * turned.imag).sum()), -float((omega**2 * turned.real).sum())
        if bend >= 0.0:
            break
        step = -slope / bend
        fraction = float(np.clip(fraction + step, -1.0, 1.0))
        if abs(step) < 1e-9:
            break
    turned = spectrum * np.exp(1j * omega * fraction)
    peak = float(turned.real.sum())
    bandwidth = float((omega**2 * turned.real).sum()) / peak if peak > 0 else 0.0
    return fraction, peak / size, bandwidth
