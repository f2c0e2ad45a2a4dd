"""Cross-correlation of two sources, and its peak to a small part of a sample."""

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, as_rows, read_padded
from kind_echo.core.audio.transforms import fast_length

Floats = NDArray[np.float64]

MapFunction = Callable[..., Iterable[Any]]
"""How pieces of work are done: `map`, or that of a pool of threads."""

NEIGHBOURHOOD = 512
"""Lags to either side from which a peak is refined."""

_BLOCK_FRAMES = 1 << 16  # frames correlated at a time, at least
_GRID_SAMPLES = 1 / 8  # of a sample, from which a peak is sought
_RIVAL_SHARE = 0.9  # of the greatest sample, above which a peak may be the greatest between samples
_MOST_RIVALS = 6
_ROUNDING_SHARE = 1e-12  # of the power, that no correlation is surer of


@cache
def _turns(size: int) -> tuple[Floats, Floats, NDArray[np.complex128]]:
    """Radians per sample of each bin, fractions of a sample, and by how much the one turns each of the other."""
    omega = 2 * np.pi * np.arange(size // 2 + 1) / size
    grid = np.arange(-1.0, 1.0 + _GRID_SAMPLES, _GRID_SAMPLES)
    return omega, grid, np.exp(1j * np.outer(omega, grid))


@dataclass(frozen=True)
class Correlation:
    """Cross-correlation at lags centre − span … centre + span, by channel.

    Attributes:
        lags: shape (2·span + 1, channels); row span + k: sum of reference[i] · render[i + centre + k].
        frames: of the reference, over which is summed.
        own: sum of squares of the reference in these, shape (channels,).
        other: of the render where it is met at each lag, shape (2·span + 1, channels).
    """

    lags: Floats
    frames: int
    own: Floats
    other: Floats


def correlate(
    reference: Source,
    render: Source,
    span: int,
    centre: int = 0,
    parts: int | None = None,
    spread: MapFunction = map,
    within: tuple[int, int] | None = None,
) -> Correlation:
    """The correlation, a block at a time; the render is zero where it has no frames.

    Args:
        parts: so many blocks spread over the file, and not all.
        spread: asked for all blocks at once, which then are held together.
        within: frames of the reference that take part; all unless given.
    """
    lo, hi = within or (0, reference.frames)
    size = fast_length(min(hi - lo, max(2 * span, _BLOCK_FRAMES)) + 2 * span)
    step = size - 2 * span
    starts = list(range(lo, hi, step))
    if parts is not None and len(starts) > parts:
        starts = [starts[int(i)] for i in np.linspace(0, len(starts) - 1, parts)]
    channels = reference.channels
    total = np.zeros((channels, size // 2 + 1), dtype=np.complex128)
    frames, own, other = 0, np.zeros(channels), np.zeros((channels, 2 * span + 1))

    def crossed(start: int) -> tuple[int, Floats, Floats, NDArray[np.complex128]]:
        x = as_rows(reference.read(start, min(start + step, hi)))
        length = x.shape[1]
        y = as_rows(read_padded(render, start - span + centre, start + length + span + centre))
        spectrum = fft.rfft(x, size)
        np.conj(spectrum, out=spectrum)
        spectrum *= fft.rfft(y, size)
        # One lag later a frame comes in at the end, and one goes out at the start.
        steps = np.square(y[:, length:]) - np.square(y[:, : 2 * span])
        first = np.einsum("cf,cf->c", y[:, :length], y[:, :length])[:, None]
        met = np.concatenate([first, first + np.cumsum(steps, axis=1)], axis=1)
        return length, np.einsum("cf,cf->c", x, x), met, spectrum

    for length, power, met, spectrum in spread(crossed, starts):
        frames += length
        own += power
        other += met
        total += spectrum
    lags = np.asarray(fft.irfft(total, size).T[: 2 * span + 1])
    return Correlation(lags, frames, own, np.maximum(other, 0.0).T)


def uncertainty(coefficient: float, frames: int, bandwidth: float) -> float:
    """Of a delay in samples, at 95 %: the bound for white noise, whose power is taken from what does not correlate.

    Args:
        bandwidth: mean square frequency, in (radians per sample)².
    Source:
        C. H. Knapp and G. C. Carter, The generalized correlation method for estimation of time delay, IEEE Trans.
        ASSP 24 (1976).
    """
    if bandwidth <= 0.0 or coefficient <= 0.0:
        return 1.0
    unrelated = max(1.0 - coefficient**2, _ROUNDING_SHARE)
    return float(2.0 * np.sqrt(unrelated / (coefficient**2 * frames * bandwidth)))


def refine(correlation: Floats, centre: int) -> tuple[float, float, float]:
    """Fraction of a sample by which the peak lies beyond `centre`, its height, and the mean square frequency.

    The correlation is a band-limited function of the lag, so its peak follows from its spectrum: the greatest of a grid
    of eighths of a sample, and from there by Newton's method, which alone would overshoot from half a sample away.

    Args:
        correlation: shape (lags,); positive at the peak.
        centre: index within a sample of the peak.
    Returns:
        The fraction in samples, −1 to 1; the height in the correlation's unit; (radians per sample)².
    """
    around = min(NEIGHBOURHOOD, centre, len(correlation) - 1 - centre)
    size = 4 * NEIGHBOURHOOD
    lags = np.arange(-around, around + 1)
    taper = np.clip(2.0 * (1.0 - np.abs(lags) / (around + 1)), 0.0, 1.0)
    padded = np.zeros(size)
    padded[lags % size] = correlation[centre + lags] * (0.5 - 0.5 * np.cos(np.pi * taper))
    spectrum = fft.rfft(padded)
    spectrum[1:-1] *= 2.0
    spectrum[-1] = 0.0
    omega, grid, turns = _turns(size)
    fraction = float(grid[(spectrum @ turns).real.argmax()])
    for _ in range(30):
        turned = spectrum * np.exp(1j * omega * fraction)
        slope, bend = -float((omega * turned.imag).sum()), -float((omega**2 * turned.real).sum())
        if bend >= 0.0:
            break
        step = float(np.clip(-slope / bend, -_GRID_SAMPLES, _GRID_SAMPLES))
        fraction = float(np.clip(fraction + step, -1.0, 1.0))
        if abs(step) < 1e-9:
            break
    turned = spectrum * np.exp(1j * omega * fraction)
    peak = float(turned.real.sum())
    bandwidth = float((omega**2 * turned.real).sum()) / peak if peak > 0 else 0.0
    return fraction, peak / size, bandwidth


def summit(lags: Floats) -> tuple[int, float]:
    """Index of the greatest magnitude of a correlation, and the fraction of a sample by which its peak lies beyond.

    Between samples another peak may be the greater one: of a tone burst, half a period away and of the other sign.
    """
    size = np.abs(lags)
    best = int(size.argmax())
    peaks = (
        np.flatnonzero((size[1:-1] >= size[:-2]) & (size[1:-1] >= size[2:]) & (size[1:-1] > _RIVAL_SHARE * size[best]))
        + 1
    )
    heights = {}
    for at in {best, *(int(k) for k in peaks[np.argsort(size[peaks])[-_MOST_RIVALS:]])}:
        fraction, height, _ = refine(math.copysign(1.0, lags[at]) * lags, at)
        heights[height] = at, fraction
    return heights[max(heights)]
