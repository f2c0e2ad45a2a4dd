"""Magnitude, phase, group delay and coherence of an effect, from what went in and what came out."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.compare import check_pair
from kind_echo.core.delay import find_delays
from kind_echo.core.errors import BadParameter
from kind_echo.core.readings import Curve, Reading
from kind_echo.core.source import ArraySource, Source, read_padded
from kind_echo.core.transforms import fast_length, hann

Floats = NDArray[np.float64]
Complexes = NDArray[np.complex128]
Counts = NDArray[np.int64]

MEASURES = (
    "gain_1k", "edge_low", "edge_high", "wall_frequency", "slope_low", "slope_high", "ripple", "flatness_error",
    "phase_deviation", "group_delay_1k",
)  # fmt: skip
_MOST_FRAMES = 1 << 23
_QUIET_END = 1e-6  # share of the energy in the last 5 ms under which a signal lies whole within its file
_EDGE_SECONDS = 0.005
_BLOCK_SECONDS = 0.02
_NOTHING = 1e-20  # of the greatest power of a block
_SEGMENT_SECONDS = 1.4
_EXCITED = 1e-10  # of the mean power density: bins with less were not driven
_COHERENT = 0.99
_PER_OCTAVE = 48
_ROUGHNESS = 0.05  # dB, that a point of the grid is off at least
_CELL = 1 / 96  # octaves over which a point of the grid is averaged: so much less noise, and no wall moved by 1 %
_LEAST_FRAMES = 256
_SMOOTH = 33  # bins over which coherence is taken where there is one transform
_BEFORE_SECONDS, _AFTER_SECONDS = 0.15, 0.8  # of the impulse response kept


@dataclass(frozen=True)
class ResponseOptions:
    """What is read off.

    Attributes:
        band: Hz of flatness and phase; None for 20 Hz to 20 kHz, or 0.45 of the rate.
        edge: dB under the level at 1 kHz at which the edges lie.
    """

    band: tuple[float, float] | None = None
    edge: float = 3.0

    def limits(self, rate: int) -> tuple[float, float]:
        """The band in force. Raises BadParameter where it is none."""
        low, high = self.band or (20.0, min(20_000.0, 0.45 * rate))
        if not 0.0 < low < high < rate / 2:
            raise BadParameter("band", self.band, f"from a lower to a higher frequency, below {rate / 2:g} Hz")
        return low, high


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


def measure_response(
    source: Source, output: Source, options: ResponseOptions = ResponseOptions()
) -> tuple[list[Reading], dict[str, Curve]]:
    """All response measures by channel; all channels: those of the first. Curves of the first channel.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
        BadParameter: the band lies outside what the rate carries.
    """
    check_pair(source, output)
    band = options.limits(source.rate)
    frames = min(max(source.frames, output.frames), _MOST_FRAMES)
    x, y = (read_padded(side, 0, frames) for side in (source, output))
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        return _refuse(source.channels, "a file has NaN or infinite samples"), {}
    each: list[list[Reading]] = []
    curves: dict[str, Curve] = {}
    for c in range(source.channels):
        found = respond(np.ascontiguousarray(x[:, c]), np.ascontiguousarray(y[:, c]), source.rate)
        if isinstance(found, str):
            each.append([Reading(key, str(c + 1), None, found) for key in (*MEASURES, "latency")])
            continue
        each.append([*_readings(str(c + 1), found, band, options.edge), Reading("latency", str(c + 1), found.latency)])
        curves = curves or _curves(found)
    by_measure = list(zip(*each, strict=True))
    readings = []
    for column in by_measure:
        first = column[0]
        readings += [Reading(first.measure, "all", first.value, first.why, first.uncertainty, first.at_most), *column]
    return readings, curves


def respond(x: Floats, y: Floats, rate: int) -> Response | str:
    """The response of one channel, or why there is none."""
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
    sure = np.where(gamma > _COHERENT, np.nan_to_num(h), 0.0)
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
    """One transform of all; for sweeps and impulses that lie whole within the file."""
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
    inside = (_BEFORE_SECONDS + _AFTER_SECONDS) * rate / size
    foreign = np.convolve(error, box, "same") * inside
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
    """Averaged over overlapped Hann windows; for noise, which goes on beyond the file."""
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
    count = int(np.log2(top / 5.0) * _PER_OCTAVE)
    return np.asarray(1000.0 * 2.0 ** (np.arange(-int(np.log2(200.0) * _PER_OCTAVE), count) / _PER_OCTAVE))[:count]


def _db(values: Floats) -> Floats:
    return np.asarray(20 * np.log10(np.maximum(values, 1e-15)))


def _readings(name: str, found: Response, band: tuple[float, float], edge: float) -> list[Reading]:
    f, level = found.frequency, _db(np.abs(found.response))
    sure = (found.coherence > _COHERENT) & np.isfinite(level)
    low_end = int(np.abs(f - 1000.0).argmin())
    if not sure[low_end]:
        why = "the coherence at 1 kHz is too low"
        return [Reading(key, name, None, why) for key in MEASURES]
    at_1k = float(np.interp(1000.0, f, level))
    noise = float(np.interp(1000.0, f, found.floor)) / 10 ** (at_1k / 20)
    # Half of the noise's power lies along the response, the other half across it.
    readings = [Reading("gain_1k", name, at_1k, None, 2 * 8.686 * noise / math.sqrt(2.0))]
    down = _edge(f, level, sure, low_end, at_1k - edge, -1)
    up = _edge(f, level, sure, low_end, at_1k - edge, 1)
    words = f"the level does not fall by {edge:g} dB within what can be measured"
    readings += [Reading(key, name, at, None if at is not None else words)
                 for key, at in (("edge_low", down), ("edge_high", up))]  # fmt: skip
    clear = sure & (np.abs(found.response) > 2 * found.floor)
    readings.append(_wall(name, f, level, at_1k, low_end))
    error = np.divide(found.floor, np.abs(found.response), out=np.ones_like(found.floor), where=clear)
    weights = np.where(clear, 1.0 / (_ROUGHNESS + 8.686 * error), 0.0)
    readings.append(_slope("slope_low", name, f, level - at_1k, weights, low_end, -1))
    readings.append(_slope("slope_high", name, f, level - at_1k, weights, low_end, 1))
    lo, hi = down or band[0], up or band[1]
    inside = (f >= lo) & (f <= hi) & sure & (f >= band[0]) & (f <= band[1])
    readings.append(Reading("ripple", name, float(np.ptp(level[inside]))) if inside.any()
                    else Reading("ripple", name, None, "nothing between the edges can be measured"))  # fmt: skip
    return readings + _flatness(name, found, level, band, sure)


def _edge(f: Floats, level: Floats, sure: NDArray[np.bool_], middle: int, wanted: float, way: int) -> float | None:
    i = middle
    while 0 <= i + way < len(f):
        j = i + way
        if not np.isfinite(level[j]) or (not sure[j] and level[j] > wanted):
            return None
        if level[j] <= wanted:
            share = (level[i] - wanted) / (level[i] - level[j])
            return float(f[i] * (f[j] / f[i]) ** share)
        i = j
    return None


def _wall(name: str, f: Floats, level: Floats, at_1k: float, middle: int) -> Reading:
    """Where the level passes −20 dB on its way down at least 40 dB within a sixth of an octave."""
    span = _PER_OCTAVE // 6
    for i in range(middle, len(f) - 1):
        if not np.isfinite(level[i + 1]):
            break
        if level[i] > at_1k - 20.0 >= level[i + 1]:
            around = level[max(0, i - span) : i + span + 2]
            around = around[np.isfinite(around)]
            window = [np.max(around[k : k + span + 1]) - np.min(around[k : k + span + 1])
                      for k in range(max(1, len(around) - span))]  # fmt: skip
            if max(window) >= 40.0:
                share = (level[i] - (at_1k - 20.0)) / (level[i] - level[i + 1])
                return Reading("wall_frequency", name, float(f[i] * (f[i + 1] / f[i]) ** share))
    return Reading("wall_frequency", name, None, "the level falls off nowhere by 40 dB within a sixth of an octave")


def _slope(key: str, name: str, f: Floats, level: Floats, weights: Floats, middle: int, way: int) -> Reading:
    """Of a line through what lies between −20 and −80 dB; a weight of 0 ends it, for there is the floor."""
    chosen = []
    i = middle
    while 0 <= i + way < len(f):
        i += way
        if weights[i] <= 0.0 or level[i] < -80.0:
            break
        if level[i] <= -20.0:
            chosen.append(i)
    if len(chosen) < 4 or np.ptp(level[chosen]) < 12.0:
        return Reading(key, name, None, "too little of a slope stands out of the floor between −20 and −80 dB")
    slope = float(np.polyfit(np.log2(f[chosen]), level[chosen], 1, w=weights[chosen])[0])
    return Reading(key, name, -way * slope)


def _flatness(
    name: str, found: Response, level: Floats, band: tuple[float, float], sure: NDArray[np.bool_]
) -> list[Reading]:
    f = found.frequency
    inside = (f >= band[0]) & (f <= band[1]) & sure
    if inside.sum() < 8:
        why = "too little of the band can be measured"
        return [Reading(key, name, None, why) for key in ("flatness_error", "phase_deviation", "group_delay_1k")]
    values = level[inside]
    worst = int(np.abs(values).argmax())
    note = f"at {f[inside][worst]:.0f} Hz"
    phase = np.unwrap(np.angle(found.response[inside]))
    where = f[inside]
    turns = round(float(np.interp(1000.0, where, phase)) / (2 * np.pi)) * 2 * np.pi
    phase = phase - turns
    # From a straight line through 0 at 0 Hz, or π for an inverted output: that is what a delay looks like.
    start = np.pi * round(float(phase[0]) / np.pi)
    slope = float(np.sum((phase - start) * where) / np.sum(where**2))
    deviation = np.degrees(phase - start - slope * where)
    farthest = int(np.abs(deviation).argmax())
    near = (where > 1000.0 / 2 ** (1 / 12)) & (where < 1000.0 * 2 ** (1 / 12))
    delay = -float(np.polyfit(2 * np.pi * where[near], phase[near], 1)[0]) * 1000 if near.sum() > 2 else None
    return [
        Reading("flatness_error", name, float(values[worst]), note),
        Reading("phase_deviation", name, float(abs(deviation[farthest])), f"at {where[farthest]:.0f} Hz"),
        Reading("group_delay_1k", name, delay, None if delay is not None else "too few points around 1 kHz"),
    ]


def _curves(found: Response) -> dict[str, Curve]:
    keep = np.isfinite(np.abs(found.response))
    f = found.frequency[keep]
    phase = np.unwrap(np.angle(found.response[keep]))
    delay = -np.gradient(phase, 2 * np.pi * f) * 1000 if len(f) > 2 else np.zeros(len(f))

    def curve(unit: str, values: Floats) -> Curve:
        return Curve("Hz", unit, f.tolist(), values.tolist())

    return {
        "magnitude": curve("dB", _db(np.abs(found.response[keep]))),
        "phase": curve("°", np.degrees(phase)),
        "group_delay": curve("ms", delay),
        "coherence": curve("", found.coherence[keep]),
    }


def _refuse(channels: int, why: str) -> list[Reading]:
    names = ["all", *(str(c + 1) for c in range(channels))]
    return [Reading(key, name, None, why) for key in (*MEASURES, "latency") for name in names]
