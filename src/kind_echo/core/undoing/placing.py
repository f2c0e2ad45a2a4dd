"""Where the whole of one sound lies in the other, for sounds that come again or are nearly all silence."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, blocks, read_padded
from kind_echo.core.audio.transforms import fast_length

Floats = NDArray[np.float64]


@dataclass(frozen=True)
class Placing:
    """When a place is taken: choices of this product, which `benchmarks.causes` holds.

    Attributes:
        most_frames: of a pair, from where it begins to sound.
        least_correlation: of the whole of both.
        as_good: of what the best place leaves unexplained, times, within which another is as good.
        meets: share of both that must lie over each other.
        furthest: share of the pair, over which it must lie over the other.
        most_tried: places that are as good.
        fine_frames: in which a fraction is told.
        sure: what is left unexplained at the least, by rounding.
        whole: of a sample, within which a delay is a whole one.
    """

    most_frames: int = 1 << 19
    least_correlation: float = 0.98
    as_good: float = 1.5
    meets: float = 0.9
    furthest: float = 0.25
    most_tried: int = 8
    fine_frames: int = 1 << 16
    sure: float = 1e-9
    whole: float = 2e-3


PLACING = Placing()


@dataclass(frozen=True)
class Place:
    """A delay in samples; and the period in samples by which others are as good, None where there is no other."""

    delay: float
    period: float | None = None


def find_place(reference: Source, render: Source) -> Place | None:
    """The delay at which the whole of both correlates best; of several that are as good, the least.

    None where no delay makes them alike.
    """
    lo = min(_first_sound(reference), _first_sound(render))
    size = min(PLACING.most_frames, max(reference.frames, render.frames) - lo)
    if size < 16:
        return None
    x, y = (read_padded(side, lo, lo + size) for side in (reference, render))
    length = fast_length(2 * size)
    spectra = fft.rfft(x, length, axis=0), fft.rfft(y, length, axis=0)
    cross = (np.conj(spectra[0]) * spectra[1]).sum(axis=1)
    lags = fft.irfft(cross, length)
    reach = size - 1
    around = np.concatenate([lags[-reach:], lags[: reach + 1]])
    coefficients = around / _energies(x, y, reach)
    best = int(coefficients.argmax())
    if coefficients[best] < PLACING.least_correlation or size - abs(best - reach) < PLACING.furthest * size:
        return None
    left = max(1.0 - float(coefficients[best]), PLACING.sure)
    # Between samples a peak is higher than at either: what that may be is told from its neighbours.
    beside = coefficients[max(0, best - 1) : best + 2]
    bend = float(beside[0] - 2 * beside[1] + beside[2]) if len(beside) == 3 else 0.0
    good = np.flatnonzero(coefficients >= 1.0 - PLACING.as_good * left + min(0.0, bend) / 8)
    peaks = [k for k in good.tolist() if 0 < k < len(coefficients) - 1
             and coefficients[k] >= max(coefficients[k - 1], coefficients[k + 1])] or [best]  # fmt: skip
    lag = best - reach
    late, least = _between(x, y, lag)
    for k in sorted(peaks, key=lambda k: abs(k - reach))[: PLACING.most_tried]:
        found, left = _between(x, y, k - reach)
        if left <= PLACING.as_good * least + PLACING.sure:
            lag, late, least = k - reach, found, min(left, least)
            break
    others = []
    for k in sorted(peaks, key=lambda k: abs(k - reach - lag))[: PLACING.most_tried]:
        if k != lag + reach and _between(x, y, k - reach)[1] <= PLACING.as_good * least + PLACING.sure:
            others.append(abs(k - reach - lag))
            break
    delay = lag + late
    if abs(delay - round(delay)) < PLACING.whole:
        delay = float(round(delay))
    return Place(delay, float(others[0]) if others else None)


def _first_sound(source: Source) -> int:
    for start, block in blocks(source, size=1 << 16):
        there = np.flatnonzero(block.any(axis=1))
        if len(there):
            return start + int(there[0])
    return source.frames


def _energies(x: Floats, y: Floats, reach: int) -> Floats:
    """What two sounds could correlate by at the most, at each lag from −reach to reach: all of both where they meet."""
    own, other = (np.concatenate([[0.0], np.cumsum(np.square(side).sum(axis=1))]) for side in (x, y))
    lags = np.arange(-reach, reach + 1)
    size = len(x)
    met_x = own[np.minimum(size, size - lags)] - own[np.maximum(0, -lags)]
    met_y = other[np.minimum(size, size + lags)] - other[np.maximum(0, lags)]
    # Most of both at the least: where little meets, chance correlates.
    least = PLACING.meets * math.sqrt(float(own[-1] * other[-1]))
    return np.asarray(np.maximum(np.sqrt(np.maximum(met_x * met_y, 0.0)), max(least, 1e-300)))


def _between(x: Floats, y: Floats, lag: int) -> tuple[float, float]:
    """The fraction of a sample beyond a lag at which the two lie closest, by steps of Newton's kind; what it leaves.

    The latter as a share of the power of y.
    """
    lo, hi = max(0, -lag), min(len(x), len(x) - lag)
    size = min(PLACING.fine_frames, 1 << int(math.log2(max(16, hi - lo))))
    loudest = lo + int(np.square(x[lo:hi]).sum(axis=1).argmax())
    lo = min(max(lo, loudest - size // 2), hi - size) if hi - lo > size else lo
    a, b = x[lo : lo + size], y[lo + lag : lo + lag + size]
    if len(a) < size or len(b) < size:
        return 0.0, 1.0
    edge = min(1 << 12, size // 8)  # what a transform makes of the ends stays out
    omega = 2 * np.pi * np.fft.rfftfreq(size)[:, None]
    spectrum, late, left = fft.rfft(a, axis=0), 0.0, 1.0
    for _ in range(3):
        turned = spectrum * np.exp(-1j * omega * late)
        moved, slope = (fft.irfft(one, size, axis=0)[edge : size - edge] for one in (turned, -1j * omega * turned))
        target = b[edge : size - edge]
        own = np.square(moved).sum(axis=0)
        gain = np.divide((moved * target).sum(axis=0), own, out=np.ones(len(own)), where=own > 0.0)
        slope = slope * gain
        error = target - moved * gain
        # What moves it and what scales it are told apart.
        slope = slope - moved * np.divide((moved * slope).sum(axis=0), own, out=np.zeros(len(own)), where=own > 0.0)
        bend = float(np.square(slope).sum())
        step = float((slope * error).sum()) / bend if bend > 0.0 else 0.0
        left = float(np.square(error).sum()) / max(float(np.square(target).sum()), 1e-300)
        if not abs(late + step) < 1.0:
            return 0.0, left
        late += step
        if abs(step) < 1e-9:
            break
    return late, left
