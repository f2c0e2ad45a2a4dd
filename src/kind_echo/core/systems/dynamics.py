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
from kind_echo.core.systems.times import (
    LEAST_FRAMES,
    SETTLED_SHARE,
    STILL_DB,
    movement,
    time_constant,
    time_to,
    unsettled,
)

Floats = NDArray[np.float64]

MEASURES = (
    "attack_time", "release_time", "attack_constant", "release_constant", "overshoot", "lookahead",
    "settled_gain_high", "settled_gain_low",
)  # fmt: skip
_MOST_FRAMES = 1 << 23
_LEAST_STEP_DB = 3.0  # dB between low and high
_MOVING_DB = 0.5  # dB by which the gain must change for times to mean anything
_SHOWN_OVERSHOOT_DB = 0.05  # dB, that is marked on the curve
_OUT_OF_NOISE_DEVIATIONS = 4.0  # standard deviations of the gain before the step
_STARTED_DB = 0.1  # dB of fall that counts as the gain having started


@dataclass(frozen=True)
class Burst:
    """The input's two steps, in frames, its frequency, and the peak levels of its parts, dBFS."""

    up: int
    down: int
    frequency: float
    low: float
    high: float


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
    edges = _edge(x, up, low, frequency, rate, -1), _edge(x, down - 1, low, frequency, rate, 1)
    loud = float(np.median(peaks[peaks > border]))
    return Burst(*edges, frequency, 20 * math.log10(low), 20 * math.log10(loud))


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
    before = gain[up - round(SETTLED_SHARE * up) - 1 : max(1, up - round(0.05 * rate))]
    if len(before) < 8:
        before = gain[up // 2 : max(up // 2 + 1, up - round(0.005 * rate))]
    low = float(np.median(before))
    loud = gain[down - round(SETTLED_SHARE * (down - up)) : down - round(rate / burst.frequency)]
    high = float(np.median(loud))
    end = len(gain) - round(rate / burst.frequency)
    moved = low - high
    if moved < _MOVING_DB:
        why = "the gain does not fall from the low part to the high one"
        nothing = [Reading(key, name, None, why) for key in MEASURES[:6]]
        return [*nothing, Reading("settled_gain_high", name, high), Reading("settled_gain_low", name, low)]
    attack = gain[up:down]
    release = gain[down : max(down, end)]
    back = float(np.median(release[-round(SETTLED_SHARE * len(release)) :])) if len(release) >= LEAST_FRAMES else None
    moves = movement(attack), movement(release) if back is not None else 0.0
    deepest = float(attack[: max(1, round(0.7 * len(attack)))].min())
    smear = 2 * max(2, round(rate / burst.frequency / 2))
    return [
        time_to("attack_time", name, attack, high, moves[0], rate),
        time_to("release_time", name, release, back, moves[1], rate),
        time_constant("attack_constant", name, attack, (low, high), (burst.low, burst.high), moves[0], smear, rate),
        time_constant("release_constant", name, release, (high, back), (burst.high, burst.low), moves[1], smear, rate),
        Reading("overshoot", name, max(0.0, high - deepest)),
        _lookahead(name, gain, low, burst, rate),
        Reading("settled_gain_high", name, high, None, _spread(loud, moves[0], smear))
        if abs(moves[0]) <= STILL_DB
        else Reading("settled_gain_high", name, None, unsettled(moves[0])),
        Reading("settled_gain_low", name, low, None, _spread(before, 0.0, smear)),
    ]


def _spread(gains: Floats, moves: float, smear: int) -> float:
    """Uncertainty in dB at 95 % of the median of gains that stand still but for `moves` dB."""
    count = max(1.0, len(gains) / smear)
    # The median of normal noise spreads by a quarter more than its mean.
    return math.hypot(2.0 * 1.25 * float(np.std(gains)) / math.sqrt(count), moves / 2)


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
