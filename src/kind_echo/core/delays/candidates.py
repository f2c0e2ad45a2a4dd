"""Where a delay may lie: the lags at which two sounds agree, of the waveform and of its spectrum made flat."""

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.correlation import Floats, MapFunction
from kind_echo.core.audio.source import Source, as_rows, blocks, read_padded
from kind_echo.core.audio.transforms import fast_length

_LONG = 1 << 20  # frames beyond which lags are sought with an excerpt
_EXCERPT = 1 << 17  # frames of the loudest stretch, aligned with the render where a file is long
_WINDOW = 1 << 19  # frames of the render that an excerpt is compared with at a time
_SMOOTH_BINS = 24  # over which a spectrum is smoothed before it is taken off
_FLOOR = 1e-5  # of the greatest, under which a spectrum is not taken off
_PEAKS = 3  # lags of each kind that are looked at
_APART = 64  # samples by which they differ


def candidates(reference: Source, render: Source, reach: int, spread: MapFunction) -> list[int]:
    """Lags at which the two may belong together, by two correlations: as they are, and with their colour taken off."""
    if min(reference.frames, render.frames) > _LONG and reach > 0:
        x, y, first = _excerpt(reference, render, reach)
        found = _peaks(*_slide(x, y, spread))
        return [lag + first for lag in found]
    longest = max(reference.frames, render.frames) - 1
    span = min(longest, reach)
    x, y = (_scaled(as_rows(side.read(0, side.frames))) for side in (reference, render))
    size = fast_length(x.shape[1] + y.shape[1])
    plain, level = np.zeros(size), np.zeros(size)
    for a, b in zip(x, y, strict=True):
        one, other = fft.rfft(a, size), fft.rfft(b, size)
        cross = np.conj(one) * other
        for total, spectrum in ((plain, cross), (level, cross / _colour(one, other))):
            lags = fft.irfft(spectrum, size)
            top = float(lags[np.abs(lags).argmax()])
            # Channels may have opposite polarity, so their correlations are folded to one sign before they are added.
            total += lags * np.sign(total @ lags or top)
    around = np.concatenate([np.arange(0, span + 1), np.arange(-span, 0)])
    return [int(lag) for lag in _peaks(level[around], plain[around], around)]


def _colour(one: NDArray[np.complex128], other: NDArray[np.complex128]) -> Floats:
    """What both spectra have in common, smoothed, with a floor that keeps what neither has from growing."""
    powers = [_smooth(np.abs(side) ** 2) for side in (one, other)]
    floored = [power + _FLOOR * power.max(initial=0.0) + 1e-300 for power in powers]
    return np.asarray(np.sqrt(floored[0]) * np.sqrt(floored[1]))


def _smooth(power: Floats) -> Floats:
    total = np.concatenate([[0.0], np.cumsum(power)])
    bins = np.arange(len(power))
    half = max(_SMOOTH_BINS, len(power) // 4096)
    lo, hi = np.maximum(0, bins - half), np.minimum(len(power), bins + half + 1)
    return np.asarray((total[hi] - total[lo]) / (hi - lo))


def _peaks(level: Floats, plain: Floats, lags: NDArray[np.int64] | None = None) -> list[int]:
    """The lags of the greatest magnitudes of two correlations, apart from each other."""
    places = np.arange(len(level)) if lags is None else lags
    found: list[int] = []
    for values in (level, plain):
        left = np.abs(values)
        for _ in range(_PEAKS):
            best = int(left.argmax())
            lag = int(places[best])
            if all(abs(lag - other) > _APART for other in found):
                found.append(lag)
            left[np.abs(places - lag) <= _APART] = 0.0
    return found


def _excerpt(reference: Source, render: Source, reach: int) -> tuple[Floats, Floats, int]:
    """The loudest stretch of the reference, what of the render it may lie in, and the first lag of that."""
    powers = [float(np.einsum("fc,fc->", block, block)) for _, block in blocks(reference, size=_EXCERPT)]
    start = int(np.argmax(powers)) * _EXCERPT
    stop = min(start + _EXCERPT, reference.frames)
    x = reference.read(start, stop)
    channel = int(np.square(x).sum(axis=0).argmax())
    lo, hi = max(start - reach, -(stop - start)), min(stop + reach, render.frames + (stop - start))
    y = read_padded(render, lo, hi)[:, channel]
    return _scaled(x[:, channel]), _scaled(y), lo - start


def _scaled(values: Floats) -> Floats:
    """To a greatest magnitude of 1, in 64 bits: the power of the least numbers of a format is 0."""
    return np.divide(values, float(np.abs(values).max(initial=0.0)) or 1.0, dtype=np.float64)


def _slide(x: Floats, y: Floats, spread: MapFunction) -> tuple[Floats, Floats]:
    """The two correlations of an excerpt with all that it may lie over, by overlap-save in pieces."""
    size = fast_length(max(_WINDOW, 2 * len(x)))
    step, places = size - len(x) + 1, max(1, len(y) - len(x) + 1)
    one = fft.rfft(x, size)
    own = _smooth(np.abs(one) ** 2)
    own += _FLOOR * own.max(initial=0.0) + 1e-300

    def piece(a: int) -> tuple[Floats, Floats]:
        cross = np.conj(one) * fft.rfft(y[a : a + size], size)
        return fft.irfft(cross / own, size)[:step], fft.irfft(cross, size)[:step]

    found = list(spread(piece, range(0, places, step)))
    level, plain = (np.concatenate([one[k] for one in found])[:places] for k in (0, 1))
    return level, plain
