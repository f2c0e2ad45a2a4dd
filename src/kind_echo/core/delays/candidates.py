"""Where a delay may lie: the lags at which two sounds agree, of the waveform and of its spectrum made flat."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.correlation import Floats, MapFunction
from kind_echo.core.audio.source import Source, as_rows, blocks, read_padded
from kind_echo.core.audio.transforms import fast_length


@dataclass(frozen=True)
class SeekingLags:
    """How lags are sought: the sizes bound memory and time, which `benchmarks.compare_files` measures.

    Choices of this product where nothing else is named; `benchmarks.causes` and the tests of delays hold them.

    Attributes:
        long_frames: beyond which lags are sought with an excerpt.
        excerpt_frames: of the loudest stretch, aligned with the render where a file is long.
        window_frames: of the render that an excerpt is compared with at a time.
        smooth_bins: over which a spectrum is smoothed before it is taken off.
        floor: of the greatest, under which a spectrum is not taken off.
        peaks: lags of each kind that are looked at.
        apart_samples: by which they differ.
    """

    long_frames: int = 1 << 20
    excerpt_frames: int = 1 << 17
    window_frames: int = 1 << 19
    smooth_bins: int = 24
    floor: float = 1e-5
    peaks: int = 3
    apart_samples: int = 64


SEEKING = SeekingLags()


def candidates(reference: Source, render: Source, reach: int, spread: MapFunction) -> list[int]:
    """Lags at which the two may belong together, by two correlations: as they are, and with their colour taken off."""
    if min(reference.frames, render.frames) > SEEKING.long_frames and reach > 0:
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
    floored = [power + SEEKING.floor * power.max(initial=0.0) + 1e-300 for power in powers]
    return np.asarray(np.sqrt(floored[0]) * np.sqrt(floored[1]))


def _smooth(power: Floats) -> Floats:
    total = np.concatenate([[0.0], np.cumsum(power)])
    bins = np.arange(len(power))
    half = max(SEEKING.smooth_bins, len(power) // 4096)
    lo, hi = np.maximum(0, bins - half), np.minimum(len(power), bins + half + 1)
    return np.asarray((total[hi] - total[lo]) / (hi - lo))


def _peaks(level: Floats, plain: Floats, lags: NDArray[np.int64] | None = None) -> list[int]:
    """The lags of the greatest magnitudes of two correlations, apart from each other."""
    places = np.arange(len(level)) if lags is None else lags
    found: list[int] = []
    for values in (level, plain):
        left = np.abs(values)
        for _ in range(SEEKING.peaks):
            best = int(left.argmax())
            lag = int(places[best])
            if all(abs(lag - other) > SEEKING.apart_samples for other in found):
                found.append(lag)
            left[np.abs(places - lag) <= SEEKING.apart_samples] = 0.0
    return found


def _excerpt(reference: Source, render: Source, reach: int) -> tuple[Floats, Floats, int]:
    """The loudest stretch of the reference, what of the render it may lie in, and the first lag of that."""
    powers = [float(np.einsum("fc,fc->", block, block)) for _, block in blocks(reference, size=SEEKING.excerpt_frames)]
    start = int(np.argmax(powers)) * SEEKING.excerpt_frames
    stop = min(start + SEEKING.excerpt_frames, reference.frames)
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
    size = fast_length(max(SEEKING.window_frames, 2 * len(x)))
    step, places = size - len(x) + 1, max(1, len(y) - len(x) + 1)
    one = fft.rfft(x, size)
    own = _smooth(np.abs(one) ** 2)
    own += SEEKING.floor * own.max(initial=0.0) + 1e-300

    def piece(a: int) -> tuple[Floats, Floats]:
        cross = np.conj(one) * fft.rfft(y[a : a + size], size)
        return fft.irfft(cross / own, size)[:step], fft.irfft(cross, size)[:step]

    found = list(spread(piece, range(0, places, step)))
    level, plain = (np.concatenate([one[k] for one in found])[:places] for k in (0, 1))
    return level, plain
