"""How fast a compressor or limiter moves: a burst of tone, low, high, low, and the gain over time."""

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source
from kind_echo.core.comparison.pair import check_pair
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Curve, Mark, Reading
from kind_echo.core.systems.burst_delay import Steps, find_burst_delay

Floats = NDArray[np.float64]

MEASURES = (
    "attack_time", "release_time", "attack_constant", "release_constant", "overshoot", "lookahead",
    "settled_gain_high", "settled_gain_low",
)  # fmt: skip
_MOST_FRAMES = 1 << 23
_REACHED_WITHIN_DB = 1.0  # dB from the settled gain at which it has been reached
_SETTLED_SHARE = 0.3  # of each part, at its end
_LEAST_STEP_DB = 3.0  # dB between low and high
_MOVING_DB = 0.5  # dB by which the gain must change for times to mean anything
_LEAST_RELEASE_FRAMES = 16  # frames after the step down, from which a gain can be said to have settled
_ENDS = "the render ends before the gain can settle"
_SHOWN_OVERSHOOT_DB = 0.05  # dB, that is marked on the curve
_STILL_DB = 0.15  # dB, by which a gain that has settled still moves in the last part
_HALF_WAY_SHARE = 0.3  # of what is left: the geometric middle of 0.9 and 0.1
_BENDING_RATIO = 1.5  # times as steep as the other, that one half of the way of one exponential may not be
_FITTED_CONSTANTS = 8.0  # time constants over which an exponential is fitted, after which nothing of it is left
_SMEARED_CONSTANTS = 1.2  # time constants in a window of the tone, from which it is the window's own shape that is seen
_WINDOW_SHARE = 0.03  # of a window's length, by which one of half its length is told wrong: twice what simulations gave
_FITTED_POINTS = 4000  # of the gain, at most
_OUT_OF_NOISE_DEVIATIONS = 4.0  # standard deviations of the gain before the step
_STARTED_DB = 0.1  # dB of fall that counts as the gain having started


@dataclass(frozen=True)
class Burst:
    """The input's two steps, in frames, and its frequency."""

    up: int
    down: int
    frequency: float


def measure_dynamics(
    source: Source, output: Source, latency: float | None = None
) -> tuple[list[Reading], dict[str, Curve]]:
    """All dynamics measures by channel; all channels: those of the first that has readings. Curve: gain over time.

    Args:
        latency: samples by which the output is later, taken off first; None for what the steps of the burst show.
    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
        BadParameter: the input is no burst of one tone, low, high, low.
    """
    check_pair(source, output)
    frames = min(source.frames, _MOST_FRAMES)
    x, y = source.read(0, frames), output.read(0, min(output.frames, _MOST_FRAMES))
    loudest = int(np.square(x).sum(axis=0).argmax())
    burst = find_burst(x[:, loudest], source.rate)
    each: list[list[Reading]] = []
    curves: dict[str, Curve] = {}
    for c in range(source.channels):
        if not (np.isfinite(x[:, c]).all() and np.isfinite(y[:, c]).all()):
            each.append(
                [
                    Reading(key, str(c + 1), None, "a file has NaN or infinite samples", reason="not finite")
                    for key in MEASURES
                ]
            )
            continue
        found = gain_over_time(x[:, c], y[:, c], burst, source.rate, latency)
        if found is None:
            each.append([Reading(key, str(c + 1), None, "the test signal is not in the render") for key in MEASURES])
            continue
        gain, late = found
        note = f"{number(late, '+.2f')} samples of delay are taken off" if latency is None and late else None
        each.append([replace(one, why=one.why or note) for one in _readings(str(c + 1), gain, burst, source.rate)])
        curves = curves or {"gain": _curve(gain, burst, each[-1], source.rate)}
    lead = next((e for e in each if e[-1].value is not None), each[0])
    readings = []
    for i in range(len(MEASURES)):
        readings += [replace(lead[i], channel="all"), *(e[i] for e in each)]
    return readings, curves


def find_burst(x: Floats, rate: int) -> Burst:
    """The step up and the step down of a burst, to a sample where the tone allows. Raises BadParameter."""
    problem = BadParameter("INPUT", "the file", "a burst of one tone: low, then at least 3 dB higher, then low")
    window = max(16, round(0.005 * rate))
    count = len(x) // window
    if count < 12:
        raise problem
    peaks = np.abs(x[: count * window]).reshape(count, window).max(axis=1)
    top = float(peaks.max())
    if top <= 0.0:
        raise problem
    audible = peaks > top * 1e-4
    low = float(np.median(peaks[audible & (peaks < top * 10 ** (-_LEAST_STEP_DB / 20))])) if (
        audible & (peaks < top * 10 ** (-_LEAST_STEP_DB / 20))
    ).sum() > 4 else 0.0  # fmt: skip
    if low <= 0.0:
        raise problem
    border = math.sqrt(low * top)
    high = np.flatnonzero(np.abs(x) > border)
    up, down = int(high[0]), int(high[-1]) + 1
    frequency = _frequency(x[up:down], rate)
    if frequency is None or down - up < 4 * rate / frequency or down >= len(x) - window:
        raise problem
    return Burst(_edge(x, up, low, frequency, rate, -1), _edge(x, down - 1, low, frequency, rate, 1), frequency)


def _edge(x: Floats, frame: int, low: float, frequency: float, rate: int, way: int) -> int:
    """From the first sample over the border back to the last that the low tone could have made."""
    quarter = max(1, round(rate / frequency / 2))
    edge = frame
    for k in range(1, quarter + 1):
        at = frame + way * k
        if not 0 <= at < len(x):
            break
        if abs(x[at]) > low * 1.05:
            edge = at
    return edge if way < 0 else edge + 1


def _frequency(x: Floats, rate: int) -> float | None:
    from kind_echo.core.tones.lines import LineSpectrum

    spectrum = LineSpectrum.of(np.ascontiguousarray(x), rate)
    best = int(np.abs(spectrum.spectrum[1:]).argmax()) + 1
    return spectrum.find_tone(best * spectrum.spacing, 4 * spectrum.spacing)


def gain_over_time(
    x: Floats, y: Floats, burst: Burst, rate: int, latency: float | None = None
) -> tuple[Floats, float] | None:
    """Gain in dB at each frame: of the tone on either side, what a window of two half periods holds, out over in.

    Over half a period a sine and cosine at its frequency are nearly at right angles; both sides are weighted alike, so
    that what the window smears is the gain alone.

    Args:
        latency: samples by which the output is later; None for what the steps show.
    Returns:
        The gain up to the frame for which there is no more output, and the delay that was taken off; None where the
        output has nothing of the tone.
    """
    half = max(2, round(rate / burst.frequency / 2))
    kernel = np.convolve(np.ones(half), np.ones(half))
    inputs, outputs = (_level(side, burst.frequency / rate, kernel) for side in (x, y))
    if not outputs.max(initial=0.0) > 1e-7 * inputs.max(initial=1.0):
        return None
    before, after = (20 * np.log10(np.maximum(side, 1e-12)) for side in (inputs, outputs))
    if latency is None:
        latency = find_burst_delay(Steps(before, after, (burst.up, burst.down), rate / burst.frequency), rate)
    last = min(len(before), math.floor(len(after) - latency))
    frames = np.arange(max(0, last))
    moved = np.interp(frames + latency, np.arange(len(after)), after, left=-240.0, right=-240.0)
    return np.asarray(np.maximum(moved - before[: len(frames)], -200.0)), latency


def _level(side: Floats, cycles: float, kernel: Floats) -> Floats:
    """Magnitude of what a window holds of a tone, about each frame."""
    return np.abs(_smoothed(side * np.exp(-2j * np.pi * np.mod(cycles * np.arange(len(side)), 1.0)), kernel))


def _smoothed(values: NDArray[np.complex128], kernel: Floats) -> NDArray[np.complex128]:
    size = 1 << (len(values) + len(kernel)).bit_length()
    product = np.fft.ifft(np.fft.fft(values, size) * np.fft.fft(kernel, size))
    start = (len(kernel) - 1) // 2
    return np.asarray(product[start : start + len(values)])


def _readings(name: str, gain: Floats, burst: Burst, rate: int) -> list[Reading]:
    """In the order of MEASURES."""
    up, down = burst.up, burst.down
    if len(gain) < down:
        return [Reading(key, name, None, "the render ends before the burst does") for key in MEASURES]
    before = gain[up - round(_SETTLED_SHARE * up) - 1 : max(1, up - round(0.05 * rate))]
    if len(before) < 8:
        before = gain[up // 2 : max(up // 2 + 1, up - round(0.005 * rate))]
    low = float(np.median(before))
    loud = gain[down - round(_SETTLED_SHARE * (down - up)) : down - round(rate / burst.frequency)]
    high = float(np.median(loud))
    end = len(gain) - round(rate / burst.frequency)
    moved = low - high
    if moved < _MOVING_DB:
        why = "the gain does not fall from the low part to the high one"
        nothing = [Reading(key, name, None, why) for key in MEASURES[:6]]
        return [*nothing, Reading("settled_gain_high", name, high), Reading("settled_gain_low", name, low)]
    attack = gain[up:down]
    release = gain[down : max(down, end)]
    back = (
        float(np.median(release[-round(_SETTLED_SHARE * len(release)) :]))
        if len(release) >= _LEAST_RELEASE_FRAMES
        else None
    )
    moves = _movement(attack), _movement(release) if back is not None else 0.0
    deepest = float(attack[: max(1, round(0.7 * len(attack)))].min())
    smear = 2 * max(2, round(rate / burst.frequency / 2))
    return [
        _reached("attack_time", name, attack, high, moves[0], rate),
        _reached("release_time", name, release, back, moves[1], rate),
        _constant("attack_constant", name, attack, low, high, moves[0], smear, rate),
        _constant("release_constant", name, release, high, back, moves[1], smear, rate),
        Reading("overshoot", name, max(0.0, high - deepest)),
        _lookahead(name, gain, low, burst, rate),
        Reading("settled_gain_high", name, high, None, _spread(loud, moves[0], smear))
        if abs(moves[0]) <= _STILL_DB
        else Reading("settled_gain_high", name, None, _unsettled(moves[0])),
        Reading("settled_gain_low", name, low, None, _spread(before, 0.0, smear)),
    ]


def _spread(gains: Floats, moves: float, smear: int) -> float:
    """Uncertainty in dB at 95 % of the median of gains that stand still but for `moves` dB."""
    count = max(1.0, len(gains) / smear)
    # The median of normal noise spreads by a quarter more than its mean.
    return math.hypot(2.0 * 1.25 * float(np.std(gains)) / math.sqrt(count), moves / 2)


def _movement(gain: Floats) -> float:
    """dB by which a gain still moves over the last part, in which it should stand still."""
    last = gain[-max(_LEAST_RELEASE_FRAMES, round(_SETTLED_SHARE * len(gain))) :]
    tenth = max(1, len(last) // 10)
    # The window of the tone reaches over the end.
    return float(np.median(last[-2 * tenth : -tenth]) - np.median(last[:tenth]))


def _unsettled(moves: float) -> str:
    return f"the gain does not settle before the part ends: it still moves by {number(moves, '+.2f')} dB"


def _reached(key: str, name: str, gain: Floats, settled: float | None, moves: float, rate: int) -> Reading:
    if settled is None:
        return Reading(key, name, None, _ENDS)
    if abs(moves) > _STILL_DB:
        return Reading(key, name, None, _unsettled(moves), at_least=1000.0 * len(gain) / rate)
    away = np.flatnonzero(np.abs(gain - settled) > _REACHED_WITHIN_DB)
    if len(away) == 0:
        return Reading(key, name, 0.0)
    if away[-1] >= len(gain) - 2:
        return Reading(key, name, None, "the gain does not settle before the part ends")
    return Reading(key, name, 1000.0 * (float(away[-1]) + 1) / rate)


def _constant(
    key: str, name: str, gain: Floats, begin: float, settled: float | None, moves: float, smear: int, rate: int
) -> Reading:
    """Time constant of the gain's way from `begin` to `settled`.

    The logarithm of what is left of the way shows whether it is one exponential; a fit, in which the settled gain is
    free as well, then has the constant.

    Args:
        smear: frames over which neighbouring gains share a window.
    """
    if settled is None:
        return Reading(key, name, None, _ENDS)
    if abs(moves) > _STILL_DB:
        return Reading(key, name, None, _unsettled(moves))
    left = (gain - settled) / (begin - settled)
    done = np.flatnonzero(left < 0.1)
    if len(done) == 0:
        return Reading(key, name, None, "the gain does not settle before the part ends")
    part = left[: done[0]]
    first = int(np.argmax(part < 0.9)) if (part < 0.9).any() else len(part)
    part = part[first:]
    if len(part) < 4:
        return Reading(key, name, 0.0, f"faster than {1000 * 4 / rate:.2g} ms")
    way = np.log(np.maximum(part, 1e-6))
    slope = float(np.polyfit(np.arange(len(part)) / rate, way, 1)[0])
    if slope >= 0.0:
        return Reading(key, name, None, "the gain does not move towards its settled value")
    if -slope * smear / rate > _SMEARED_CONSTANTS:
        why = "no slower than what a period of the tone shows"
        return Reading(key, name, -1000.0 / slope, why, 500.0 * smear / rate)
    # Of one exponential the first half of the way to a tenth is as steep as the second.
    middle = int(np.argmax(part < _HALF_WAY_SHARE)) if (part < _HALF_WAY_SHARE).any() else 0
    if middle >= _LEAST_RELEASE_FRAMES and len(part) - middle >= _LEAST_RELEASE_FRAMES:
        halves = [float(np.polyfit(np.arange(len(half)), half, 1)[0]) for half in (way[:middle], way[middle:])]
        if halves[0] < 0.0 and not 1.0 / _BENDING_RATIO <= halves[1] / halves[0] <= _BENDING_RATIO:
            early, late = (-1000.0 / (rate * half) for half in halves)
            why = f"not one exponential: {number(early, '.3g')} ms at first, {number(late, '.3g')} ms later"
            return Reading(key, name, None, why)
    seconds, unsure = _fitted(left[first : len(left) - smear], -1.0 / slope, smear, rate)
    return Reading(key, name, 1000.0 * seconds, None, None if unsure is None else 1000.0 * unsure)


def _fitted(left: Floats, seconds: float, smear: int, rate: int) -> tuple[float, float | None]:
    """Time constant of an exponential and a constant beside it, and its uncertainty at 95 %; seconds.

    The beginning where there is too little to fit, or where the fit does not stay near it.

    Args:
        left: share of the way that is left, by frame.
        seconds: where to begin.
        smear: frames that share a window, so that they count as one value.
    """
    from scipy.optimize import least_squares

    shown = left[: max(_LEAST_RELEASE_FRAMES, round(_FITTED_CONSTANTS * seconds * rate))]
    step = max(1, len(shown) // _FITTED_POINTS)
    times, values = np.arange(0, len(shown), step) / rate, shown[::step]
    free = len(shown) / max(smear, step) - 3
    if free < 1:
        return seconds, None

    def error(p: Floats) -> Floats:
        return np.asarray(p[0] * np.exp(-times * np.exp(-p[1])) + p[2] - values)

    found = least_squares(error, np.array([values[0], math.log(seconds), 0.0]))
    fitted = math.exp(min(float(found.x[1]), 50.0))
    if not 1.0 / _BENDING_RATIO <= fitted / seconds <= _BENDING_RATIO:
        return seconds, None
    inverse = np.linalg.pinv(np.asarray(found.jac))
    # Values that share a window err alike: of so many the residuals count as few.
    variance = 2.0 * found.cost / len(values) * (free + 3) / free
    spread = math.sqrt(float(np.square(inverse[1]).sum()) * variance * max(1.0, smear / step))
    window = _WINDOW_SHARE * (smear / rate) ** 2 / (2 * fitted)
    return fitted, math.hypot(_students(free) * spread * fitted, window)


def _students(free: float) -> float:
    """Standard deviations at 95 % by so many degrees of freedom."""
    from scipy.special import stdtrit

    return float(stdtrit(free, 0.975))


def _lookahead(name: str, gain: Floats, low: float, burst: Burst, rate: int) -> Reading:
    """The window smears a step over one period to either side; half of one is taken off."""
    smear = round(rate / burst.frequency)
    start = max(0, burst.up - round(0.2 * rate))
    before = gain[start : burst.up - smear]
    if len(before) == 0:
        return Reading("lookahead", name, None, "nothing comes before the step up")
    # In noise the gain is now here, now there: what falls ahead of the step stays down until it.
    spread = 1.4826 * float(np.median(np.abs(before - np.median(before))))
    resting = np.flatnonzero(before >= low - max(_STARTED_DB, _OUT_OF_NOISE_DEVIATIONS * spread))
    fell = int(resting[-1]) + 1 if len(resting) else 0
    if fell == len(before):
        return Reading("lookahead", name, 0.0)
    return Reading("lookahead", name, 1000.0 * (burst.up - start - fell - smear / 2) / rate)


def _curve(gain: Floats, burst: Burst, readings: list[Reading], rate: int) -> Curve:
    """Gain over time, thinned, with what was read from it at its place."""
    step = max(1, len(gain) // 4000)
    marks = tuple(_marks(gain, burst, {r.measure: r.value for r in readings}, rate))
    return Curve("s", "dB", (np.arange(0, len(gain), step) / rate).tolist(), gain[::step].tolist(), marks)


def _marks(gain: Floats, burst: Burst, values: dict[str, float | None], rate: int) -> Iterator[Mark]:
    up, down = burst.up / rate, burst.down / rate
    if ahead := values["lookahead"]:
        yield Mark(up - ahead / 1000, f"look-ahead {ahead:.2f} ms")
    yield Mark(up, "step up")
    if (passed := values["overshoot"]) and passed >= _SHOWN_OVERSHOOT_DB:
        yield Mark((burst.up + int(gain[burst.up : burst.down].argmin())) / rate, f"overshoot {passed:.2f} dB")
    if attack := values["attack_time"]:
        yield Mark(up + attack / 1000, f"attack {attack:.2f} ms")
    yield Mark(down, "step down")
    if release := values["release_time"]:
        yield Mark(down + release / 1000, f"release {release:.1f} ms")
