"""The response of one channel, estimated from what went in and what came out.

What drives all frequencies evenly (a sweep, an impulse) is divided out at every bin of one transform. Noise, music and
speech drive some bins much and their neighbours hardly: there a line is fitted through the bins around each frequency,
each with the weight that its power gives it.
"""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import ArraySource, read_padded
from kind_echo.core.audio.transforms import fast_length
from kind_echo.core.delays.delay import find_delays

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Counts = NDArray[np.int64]

COHERENT = 0.99
"""Coherence above which a response is sure."""

PER_OCTAVE = 48
"""Points of the grid."""

LOWEST = 2.0
"""Hz at which the grid begins."""

_QUIET_END_SHARE = 1e-6  # share of the energy in the last 5 ms under which a signal lies whole within its file
_EDGE_SECONDS = 0.005
_FADE_SECONDS = 0.02
_LONG_FADE_SECONDS = 0.3  # where what is lost of the end is no part of the band
_EVEN_RATIO = 0.75  # geometric over arithmetic mean of the power of neighbouring bins; 0.56 for noise
_WIDTHS_OCTAVES = (1 / 96, 1 / 48, 1 / 24)  # octaves over which a line is fitted, wider where it must be
_LEAST_HZ, _LEAST_SHARE, _LEAST_BINS = 1.3, 0.15, 4  # of a fit: as the impulse response is long; of its frequency
_AIM_RELATIVE_ERROR = 0.0023  # standard deviation over magnitude, 0.02 dB, from which no wider fit is looked for
_BLOCK_SECONDS = 0.02
_NOTHING_SHARE = 1e-20  # of the greatest power of a block
_EXCITED_SHARE = 1e-10  # of the mean power density: bins with less were not driven
# Octaves over which a point of the grid is averaged: so much less noise, and no wall moved by 1 %
_CELL_OCTAVES = 1 / 96
_FINE_CELL_OCTAVES = 1 / 768  # octaves, the same where a peak is looked for between them
_BESIDE_OCTAVES, _FADED_SHARE = (
    1 / 12,
    0.4,
)  # octaves under a frequency, and of the power there: a sweep's falls by 0.25 dB in them
_TOP_SHARE = 0.495  # of the rate, where the grid ends: a cell must lie below half of it
_LEAST_FRAMES = 256
_SMOOTHING_BINS = 33  # bins over which coherence is taken where there is one transform
_BEFORE_SECONDS, _AFTER_SECONDS = 0.15, 0.8  # of the impulse response kept


Points = tuple[Complexes, Floats, Floats]
"""Response, coherence and floor at some frequencies."""


@dataclass(frozen=True)
class Response:
    """One channel on a grid a 48th of an octave apart; nan where the input drives nothing.

    Attributes:
        response: complex, latency taken off.
        coherence: 0 to 1.
        floor: magnitude under which the response is noise.
        latency: samples.
        rate: Hz.
        finer: response, coherence and floor at other frequencies, as finely as the files tell.
        resolution: Hz that two frequencies lie apart at the least to tell something each.
    """

    frequency: Floats
    response: Complexes
    coherence: Floats
    floor: Floats
    latency: float
    rate: int
    finer: Callable[[Floats], "Points"]
    resolution: float


def respond(x: Floats, y: Floats, rate: int, lowest: float = LOWEST) -> Response | str:
    """The response of one channel, or why there is none.

    Args:
        x, y: what went in and what came out, shape (frames,), finite.
        rate: Hz.
        lowest: Hz at which the grid begins.
    """
    if not x.any() or not y.any():
        return "one side is silent"
    if len(x) < _LEAST_FRAMES:
        return "the files are too short"
    sides = ArraySource(x[:, None], rate), ArraySource(y[:, None], rate)
    delay, _ = find_delays(sides[0], sides[1])
    shift = round(delay.samples) if delay.samples is not None else _peak_of_response(x, y)
    if shift is None:
        return "nothing in the output follows from the input"
    edge = max(16, round(_EDGE_SECONDS * rate))
    # What comes before the start is silence on both sides; what comes after the end may be missing from the output.
    whole = float(x[-edge:] @ x[-edge:]) <= _QUIET_END_SHARE * float(x @ x)
    # A filter may answer before its delay, which is that of its bulk: nothing of that is cut off.
    begin = shift - edge
    moved = read_padded(sides[1], begin, shift + len(x))[:, 0]
    met = len(x) if whole else len(x) - max(0, shift)
    h, gamma, noise = _whole(
        *_fade_cut_ends(x[:met], moved[: met + edge], edge, 0.0 if whole else _FADE_SECONDS * rate), rate
    )
    size = 2 * (len(h) - 1)
    # Where hardly anything was driven, what an effect adds would be the greatest of all.
    sure = np.where(gamma > COHERENT, np.nan_to_num(h), 0.0)
    latency = begin + _summit(fft.irfft(sure if sure.any() else np.nan_to_num(h), size))
    grid = _grid(rate, lowest)
    bins = np.arange(len(h)) * rate / size
    # The rest of the delay is taken off bin by bin, so that what is interpolated turns slowly.
    turned = h * np.exp(2j * np.pi * bins / rate * (latency - begin))
    if delay.polarity == -1:
        latency = float(delay.samples or latency)
    resolution = 1.0 / min(len(x) / rate, _BEFORE_SECONDS + _AFTER_SECONDS)
    if not _is_even(x):
        ended = _fade_cut_ends(x[:met], moved[: met + edge], edge, 0.0 if whole else _LONG_FADE_SECONDS * rate)
        fitted = partial(_fitted, *ended, rate, latency - begin)
        return Response(grid, *fitted(grid), latency, rate, partial(fitted, closely=True), resolution)

    def told(at: Floats, cell: float = _FINE_CELL_OCTAVES) -> Points:
        half = 2.0 ** (cell / 2)
        low, high = np.searchsorted(bins, at / half), np.searchsorted(bins, at * half)
        apart = np.maximum(1.0, at * (half - 1 / half) * (_BEFORE_SECONDS + _AFTER_SECONDS))
        return (
            _averaged_over(turned.real, bins, at, low, high) + 1j * _averaged_over(turned.imag, bins, at, low, high),
            np.interp(at, bins, gamma),
            np.interp(at, bins, noise) / np.sqrt(apart),
        )

    return Response(grid, *told(grid, _CELL_OCTAVES), latency, rate, told, resolution)


def _fade_cut_ends(x: Floats, y: Floats, edge: int, frames: float) -> tuple[Floats, Floats]:
    """Both sides faded out alike where they are cut: a cut has energy at every frequency, and no answer in the output.

    Args:
        y: begins `edge` frames before x.
        frames: of the fade, at most an eighth of x; 0 where x has ended by itself.
    """
    fall = min(round(frames), len(x) // 8)
    if fall == 0:
        return x, y
    fade = 0.5 + 0.5 * np.cos(np.pi * np.arange(fall) / fall)
    faded = [side[: len(x) + before].copy() for side, before in ((x, 0), (y, edge))]
    for side in faded:
        side[-fall:] *= fade
    return faded[0], faded[1]


def _is_even(x: Floats) -> bool:
    """Whether the power of neighbouring bins differs little, where most of it lies."""
    power = np.abs(fft.rfft(x, fast_length(len(x)))) ** 2
    power = power[: len(power) // _SMOOTHING_BINS * _SMOOTHING_BINS].reshape(-1, _SMOOTHING_BINS)
    mean = power.mean(axis=1)
    if not mean.any():
        return True
    even = np.exp(np.log(power + 1e-12 * mean.max()).mean(axis=1))
    return bool(even.sum() > _EVEN_RATIO * mean.sum())


def _fitted(x: Floats, y: Floats, rate: int, late: float, grid: Floats, *, closely: bool = False) -> Points:
    """Response, coherence and standard deviation on a grid: of a line through the bins about each frequency.

    Weighted least squares with the power of x for weights, which is how well each bin knows its response. The line
    takes up that tones lie beside the frequency that is asked for. What it leaves is the noise.

    Args:
        closely: through as few bins as tell a line.
    """
    size = fast_length(len(x) + round((_BEFORE_SECONDS + _AFTER_SECONDS) * rate))
    apart = size / len(x)  # bins to each that tells something of its own
    bins = np.arange(size // 2 + 1) * rate / size
    sx = fft.rfft(x, size)
    sy = fft.rfft(y, size) * np.exp(2j * np.pi * bins / rate * late)
    power, cross, output = np.abs(sx) ** 2, sy * np.conj(sx), np.abs(sy) ** 2
    few = _LEAST_BINS * apart * rate / size
    least = np.maximum(0.0 if closely else np.minimum(_LEAST_HZ, _LEAST_SHARE * grid), few) / 2
    h, coherence = np.full(len(grid), np.nan, dtype=np.complex128), np.zeros(len(grid))
    spread = np.full(len(grid), np.inf)
    for width in (_FINE_CELL_OCTAVES,) if closely else _WIDTHS_OCTAVES:
        half = np.maximum(grid * (2.0 ** (width / 2) - 1.0), least)
        low = np.clip(np.searchsorted(bins, grid - half), 1, len(bins) - 2)
        high = np.clip(np.searchsorted(bins, grid + half), low + 1, len(bins) - 1)
        ends = np.stack([low, high], axis=1).ravel()

        def sums(values: NDArray[np.inexact], ends: Counts = ends) -> NDArray[np.inexact]:
            return np.add.reduceat(values, ends)[::2]

        weight = np.maximum(sums(power).real, np.finfo(float).tiny)
        middle = sums(power * bins).real / weight
        width2 = np.maximum(sums(power * bins**2).real - weight * middle**2, 1e-9 * weight)
        level, slope = sums(cross), sums(cross * bins)
        slope = slope - middle * level
        heard = sums(output).real
        left = np.maximum(heard - np.abs(level) ** 2 / weight - np.abs(slope) ** 2 / width2, 0.0)
        free = np.maximum((high - low) / apart - 2.0, 0.5)
        variance = left / free * (1.0 / weight + (grid - middle) ** 2 / width2) * apart
        found = level / weight + slope / width2 * (grid - middle)
        sd = np.sqrt(variance)
        driven = (
            (weight > _EXCITED_SHARE * power.mean() * (high - low)) & (heard > 0.0) & (least <= _LEAST_SHARE * grid)
        )
        better = driven & (spread > _AIM_RELATIVE_ERROR * np.abs(found)) & (sd < spread)
        h = np.where(better, found, h)
        spread = np.where(better, sd, spread)
        # Of few bins a line explains much whatever they hold: that is taken off.
        missing = left * (high - low) / apart / free / np.maximum(heard, np.finfo(float).tiny)
        coherence = np.where(better, np.maximum(0.0, 1.0 - missing), coherence)
    return h, coherence, np.where(np.isfinite(spread), spread, 0.0)


def _averaged_over(values: Floats, bins: Floats, grid: Floats, low: Counts, high: Counts) -> Floats:
    """Mean of the bins low … high about each frequency, where these are several; between bins elsewhere."""
    count = high - low
    sums = np.concatenate([[0.0], np.cumsum(np.nan_to_num(values))])
    missing = np.concatenate([[0], np.cumsum(np.isnan(values))])
    several = (count > 2) & (missing[high] == missing[low])
    return np.where(several, (sums[high] - sums[low]) / np.maximum(1, count), np.interp(grid, bins, values))


def _peak_of_response(x: Floats, y: Floats) -> int | None:
    """Delay by the greatest value of the impulse response; for signals whose own correlation is ambiguous."""
    size = fast_length(2 * len(x))
    spectrum = fft.rfft(x, size)
    power = np.abs(spectrum) ** 2
    impulse = fft.irfft(fft.rfft(y, size) * np.conj(spectrum) / (power + 1e-3 * power.max()), size)
    best = int(np.abs(impulse).argmax())
    if np.abs(impulse[best]) < 8 * np.sqrt(np.mean(impulse**2)):
        return None
    return best if best < size // 2 else best - size


def _summit(impulse: Floats) -> float:
    """Place of the greatest magnitude, between samples by a parabola; negative before the start."""
    best = int(np.abs(impulse).argmax())
    a, b, c = (float(impulse[(best + k) % len(impulse)]) for k in (-1, 0, 1))
    bend = a - 2 * b + c
    part = 0.5 * (a - c) / bend if bend else 0.0
    return (best if best < len(impulse) // 2 else best - len(impulse)) + float(np.clip(part, -1, 1))


def _whole(x: Floats, y: Floats, rate: int) -> tuple[Complexes, Floats, Floats]:
    """Response, coherence and noise by bin, from one transform of all; for sweeps and impulses."""
    size = fast_length(len(x) + round((_BEFORE_SECONDS + _AFTER_SECONDS) * rate))
    sx, sy = fft.rfft(x, size), fft.rfft(y, size)
    power, cross = np.abs(sx) ** 2, sy * np.conj(sx)
    driven = power > _EXCITED_SHARE * power.mean()
    h = np.divide(cross, power, out=np.zeros_like(cross), where=driven)
    kept = _gated(h, size, rate)
    box = np.ones(_SMOOTHING_BINS) / _SMOOTHING_BINS
    smooth = [np.convolve(v, box, "same") for v in (cross.real, cross.imag, power, np.abs(sy) ** 2)]
    gamma = _coherence(smooth[0] + 1j * smooth[1], smooth[2], smooth[3])
    error = np.abs(h - kept) ** 2
    foreign = np.convolve(error, box, "same") * sum(_gate(size, rate)) / size
    noise = np.sqrt(foreign * _steadiness(h - kept, size, rate))
    # A sweep's harmonics lie outside the gate, but where they alias some come into it: all that is outside counts.
    power = np.convolve(np.abs(kept) ** 2, box, "same")
    sure = np.divide(power, power + foreign, out=np.zeros_like(power), where=power > 0)
    hidden = np.where(driven, 1.0, np.nan)
    told = driven & ~_fades_out(smooth[2])
    return kept * hidden, np.where(told, np.maximum(gamma, sure), 0.0), noise


def _fades_out(power: Floats) -> NDArray[np.bool_]:
    """Where a sweep is about to end: what an effect makes of it there comes after the end, or lies in its fade.

    Args:
        power: of the input by bin, smoothed.
    """
    bins = np.arange(len(power))
    span = np.floor(bins * (2.0**_BESIDE_OCTAVES - 1.0)).astype(np.int64)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    before = (sums[bins] - sums[bins - span]) / np.maximum(span, 1)
    return np.asarray((span > _SMOOTHING_BINS) & (power < _FADED_SHARE * before))


def _steadiness(left: Complexes, size: int, rate: int) -> float:
    """Power of what is there throughout over the mean power, outside the gate.

    The rest of the mean is a sweep's harmonics, each in its place; and where the files end there is nothing at all.
    """
    before, after = _gate(size, rate)
    block = max(1, round(_BLOCK_SECONDS * rate))
    outside = fft.irfft(left, size)[after : size - before]
    power = np.square(outside[: len(outside) // block * block]).reshape(-1, block).mean(axis=1)
    there = power > _NOTHING_SHARE * power.max(initial=0.0)
    return float(np.median(power[there]) / power.mean()) if there.any() else 1.0


def _coherence(cross: Complexes, x: Floats, y: Floats) -> Floats:
    scale = x * y
    share = np.divide(np.abs(cross) ** 2, scale, out=np.zeros_like(x), where=scale > 0)
    return np.asarray(np.clip(share, 0.0, 1.0))


def _gate(size: int, rate: int) -> tuple[int, int]:
    """Frames of an impulse response that are kept before and after the latency."""
    return min(round(_BEFORE_SECONDS * rate), size // 4), min(round(_AFTER_SECONDS * rate), size // 2)


def _gated(h: Complexes, size: int, rate: int) -> Complexes:
    """The response with its impulse response cut to 150 ms before and 800 ms after the latency, tapered."""
    impulse = fft.irfft(h, size)
    before, after = _gate(size, rate)
    gate = np.zeros(size)
    fall = after // 4
    gate[: after - fall] = 1.0
    gate[after - fall : after] = 0.5 + 0.5 * np.cos(np.pi * np.arange(fall) / fall)
    rise = before // 4
    gate[-(before - rise) :] = 1.0
    gate[-before : -(before - rise)] = 0.5 - 0.5 * np.cos(np.pi * np.arange(rise) / rise)
    return np.asarray(fft.rfft(impulse * gate))


def _grid(rate: int, lowest: float) -> Floats:
    """Frequencies from the lowest to just below half the rate; 1 kHz is one of them."""
    first, last = (np.log2(end / 1000.0) * PER_OCTAVE for end in (lowest, _TOP_SHARE * rate))
    return np.asarray(1000.0 * 2.0 ** (np.arange(np.ceil(first), last) / PER_OCTAVE))
