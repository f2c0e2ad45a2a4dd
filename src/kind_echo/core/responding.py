"""The response of one channel, estimated from what went in and what came out: by one transform, or averaged."""

from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.delay import find_delays
from kind_echo.core.source import ArraySource, read_padded
from kind_echo.core.transforms import fast_length, hann

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Counts = NDArray[np.int64]

COHERENT = 0.99
"""Coherence above which a response is sure."""

PER_OCTAVE = 48
"""Points of the grid."""

_QUIET_END = 1e-6  # share of the energy in the last 5 ms under which a signal lies whole within its file
_EDGE_SECONDS = 0.005
_BLOCK_SECONDS = 0.02
_NOTHING = 1e-20  # of the greatest power of a block
_SEGMENT_SECONDS = 1.4
_EXCITED = 1e-10  # of the mean power density: bins with less were not driven
_CELL = 1 / 96  # octaves over which a point of the grid is averaged: so much less noise, and no wall moved by 1 %
_LEAST_FRAMES = 256
_SMOOTH = 33  # bins over which coherence is taken where there is one transform
_BEFORE_SECONDS, _AFTER_SECONDS = 0.15, 0.8  # of the impulse response kept


@dataclass(frozen=True)
class Response:
    """One channel on a grid a 48th of an octave apart; nan where the input drives nothing.

    Attributes:
        response: complex, latency taken off.
        coherence: 0 to 1.
        floor: magnitude under which the response is noise.
    """

    frequency: Floats
    response: Complexes
    coherence: Floats
    floor: Floats
    latency: float


def respond(x: Floats, y: Floats, rate: int) -> Response | str:
    """The response of one channel, or why there is none.

    Args:
        x, y: what went in and what came out, shape (frames,), finite.
        rate: Hz.
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
    whole = float(x[-edge:] @ x[-edge:]) <= _QUIET_END * float(x @ x)
    # A filter may answer before its delay, which is that of its bulk: nothing of that is cut off.
    begin = shift - edge
    moved = read_padded(sides[1], begin, shift + len(x))[:, 0]
    met = len(x) if whole else len(x) - max(0, shift)
    h, gamma, noise = _whole(x[:met], moved[: met + edge], rate)
    if not whole:
        # A sweep that ends with its file lacks little of its output; noise lacks something at every frequency.
        averaged = _averaged(x, moved[edge:], rate)
        if np.median(averaged[1]) > np.median(gamma):
            begin, (h, gamma, noise) = shift, averaged
    size = 2 * (len(h) - 1)
    # Where hardly anything was driven, what an effect adds would be the greatest of all.
    sure = np.where(gamma > COHERENT, np.nan_to_num(h), 0.0)
    latency = begin + _summit(fft.irfft(sure if sure.any() else np.nan_to_num(h), size))
    grid = _grid(rate)
    bins = np.arange(len(h)) * rate / size
    # The rest of the delay is taken off bin by bin, so that what is interpolated turns slowly.
    turned = h * np.exp(2j * np.pi * bins / rate * (latency - begin))
    if delay.polarity == -1:
        latency = float(delay.samples or latency)
    half = 2.0 ** (_CELL / 2)
    low, high = np.searchsorted(bins, grid / half), np.searchsorted(bins, grid * half)
    apart = np.maximum(1.0, grid * (half - 1 / half) * (_BEFORE_SECONDS + _AFTER_SECONDS))
    return Response(
        grid,
        _averaged_over(turned.real, bins, grid, low, high) + 1j * _averaged_over(turned.imag, bins, grid, low, high),
        np.interp(grid, bins, gamma),
        np.interp(grid, bins, noise) / np.sqrt(apart),
        latency,
    )


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
    driven = power > _EXCITED * power.mean()
    h = np.divide(cross, power, out=np.zeros_like(cross), where=driven)
    kept = _gated(h, size, rate)
    box = np.ones(_SMOOTH) / _SMOOTH
    smooth = [np.convolve(v, box, "same") for v in (cross.real, cross.imag, power, np.abs(sy) ** 2)]
    gamma = _coherence(smooth[0] + 1j * smooth[1], smooth[2], smooth[3])
    error = np.abs(h - kept) ** 2
    foreign = np.convolve(error, box, "same") * sum(_gate(size, rate)) / size
    noise = np.sqrt(foreign * _steadiness(h - kept, size, rate))
    # A sweep's harmonics lie outside the gate, but where they alias some come into it: all that is outside counts.
    power = np.convolve(np.abs(kept) ** 2, box, "same")
    sure = np.divide(power, power + foreign, out=np.zeros_like(power), where=power > 0)
    hidden = np.where(driven, 1.0, np.nan)
    return kept * hidden, np.where(driven, np.maximum(gamma, sure), 0.0), noise


def _steadiness(left: Complexes, size: int, rate: int) -> float:
    """Power of what is there throughout over the mean power, outside the gate.

    The rest of the mean is a sweep's harmonics, each in its place; and where the files end there is nothing at all.
    """
    before, after = _gate(size, rate)
    block = max(1, round(_BLOCK_SECONDS * rate))
    outside = fft.irfft(left, size)[after : size - before]
    power = np.square(outside[: len(outside) // block * block]).reshape(-1, block).mean(axis=1)
    there = power > _NOTHING * power.max(initial=0.0)
    return float(np.median(power[there]) / power.mean()) if there.any() else 1.0


def _averaged(x: Floats, y: Floats, rate: int) -> tuple[Complexes, Floats, Floats]:
    """As `_whole`, averaged over overlapped Hann windows; for noise, which goes on beyond the file."""
    size = fast_length(min(round(_SEGMENT_SECONDS * rate), len(x)))
    size = size if size <= len(x) else len(x) // 2 * 2
    starts = list(range(0, len(x) - size + 1, max(1, size // 4)))
    window = hann(size)
    sxx, syy = np.zeros(size // 2 + 1), np.zeros(size // 2 + 1)
    sxy = np.zeros(size // 2 + 1, dtype=np.complex128)
    for start in starts:
        a, b = fft.rfft(x[start : start + size] * window), fft.rfft(y[start : start + size] * window)
        sxx += np.abs(a) ** 2
        syy += np.abs(b) ** 2
        sxy += b * np.conj(a)
    driven = sxx > _EXCITED * sxx.mean()
    h = np.divide(sxy, sxx, out=np.zeros_like(sxy), where=driven)
    kept = _gated(h, size, rate)
    box = np.ones(_SMOOTH) / _SMOOTH
    smooth = [np.convolve(v, box, "same") for v in (sxy.real, sxy.imag, sxx, syy)]
    gamma = _coherence(sxy, sxx, syy) if len(starts) >= 8 else _coherence(smooth[0] + 1j * smooth[1], *smooth[2:])
    gamma = np.convolve(gamma, box, "same")
    error = np.convolve(np.abs(h - kept) ** 2, box, "same")
    hidden = np.where(driven, 1.0, np.nan)
    return kept * hidden, gamma, np.sqrt(error) * 0.5


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


def _grid(rate: int) -> Floats:
    top = rate / 2
    count = int(np.log2(top / 5.0) * PER_OCTAVE)
    return np.asarray(1000.0 * 2.0 ** (np.arange(-int(np.log2(200.0) * PER_OCTAVE), count) / PER_OCTAVE))[:count]
