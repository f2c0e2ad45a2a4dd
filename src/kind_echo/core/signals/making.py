"""From a request to samples."""

import math
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from kind_echo.core.audio.source import LEAST_RATE, Samples
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.programme import play
from kind_echo.core.signals.request import SignalKind, SignalRequest, within
from kind_echo.core.signals.shapes import Mono, add_body, amplitude, fades

_STRIKE_GRID = (
    0.04  # s; a whole number of frames at every rate that is a multiple of 25 Hz, so the peak is sampled exactly
)
_CLAPPER = 30e-6  # s, standard deviation of the contact pulse: 2 to 8 samples wide, −75 dB at 22 kHz
_REACH = 40  # standard deviations beyond which it is nothing at all in 64 bits
_RATES = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)


def synthesise(request: SignalRequest, rate: int) -> Samples:
    """Samples of a signal at a rate, shape (frames, channels).

    Raises:
        BadParameter: a frequency at or above half the rate, or another parameter out of range.
    """
    within("rate", rate, LEAST_RATE, 1_536_000)
    frames = max(1, round(request.seconds * rate))
    sound = _MAKERS[request.kind](request, frames, rate)
    mono = np.concatenate([np.zeros(round(request.lead_in * rate)), sound, np.zeros(round(request.tail * rate))])
    if request.placement == "apart":
        other = replace(request, channels=1, placement="equal", seed=(request.seed + 1) % 2**32)
        return np.concatenate([mono[:, None], synthesise(other, rate)], axis=1)
    samples = np.repeat(mono[:, None], request.channels, axis=1)
    if request.placement == "opposite":
        samples[:, 1] *= -1.0
    elif request.placement != "equal":
        samples[:, 1 if request.placement == "first" else 0] = 0.0
    return samples


def whole_seconds(request: SignalRequest, rate: int) -> float:
    """How long a signal lasts at a rate, silence before and after with it, without making it."""
    sound = request.seconds
    if request.kind == "steps":
        sound = _step_count(request, rate) * request.step_seconds
    elif request.kind == "staircase":
        sound = len(_stairs(request)) * request.step_seconds
    return request.lead_in + sound + request.tail


def played_frequency(request: SignalRequest) -> float:
    """The frequency of a tone, in Hz: as asked for, or that of the nearest prime number of cycles in its seconds.

    A prime number of cycles shares no factor with the number of samples, so all multiples of it fall on different bins.
    """
    if not request.coherent:
        return request.frequency
    wished = request.frequency * request.seconds
    for distance in range(max(4, round(wished))):
        for cycles in (round(wished) - distance, round(wished) + distance):
            shared = any(round(request.seconds * rate) % max(cycles, 1) == 0 for rate in _RATES)
            if _is_prime(cycles) and not shared:
                return cycles / request.seconds
    raise BadParameter("frequency", request.frequency, "some cycles long, to be coherent")


def _is_prime(number: int) -> bool:
    return number > 1 and all(number % factor for factor in range(2, math.isqrt(number) + 1))


def _tone(request: SignalRequest, frames: int, rate: int) -> Mono:
    frequency = played_frequency(request)
    _below_half("frequency", frequency, rate)
    phase = 2 * np.pi * np.mod(frequency * np.arange(frames) / rate, 1.0)
    return amplitude(request) * np.sin(phase) * fades(request, frames, rate)


def _sweep(request: SignalRequest, frames: int, rate: int) -> Mono:
    """Source: A. Farina, Simultaneous measurement of impulse response and distortion …, AES 108 (2000)."""
    end = _top(request, rate)
    _below_half("start", request.start, rate)
    _below_half("end", end, rate)
    if request.start == end:
        raise BadParameter("end", end, "different from the start of the sweep")
    time = np.arange(frames) / rate
    if request.law == "linear":
        cycles = request.start * time + (end - request.start) * time**2 / (2 * request.seconds)
    else:
        growth = math.log(end / request.start)
        cycles = request.start * request.seconds / growth * np.expm1(time / request.seconds * growth)
    return amplitude(request) * np.sin(2 * np.pi * np.mod(cycles, 1.0)) * fades(request, frames, rate)


def _bells(request: SignalRequest, frames: int, rate: int) -> Mono:
    """Strikes of a bell buoy in a swell: a contact a few samples long, then inharmonic partials that ring on."""
    if request.seconds < 2 * _STRIKE_GRID:
        raise BadParameter("seconds", request.seconds, f"at least {2 * _STRIKE_GRID:g} for a strike")
    rng = np.random.default_rng(request.seed)
    time = np.arange(frames) / rate
    sound = np.zeros(frames)
    strike = _STRIKE_GRID
    loudest = True
    while strike < request.seconds:
        force = 1.0 if loudest else float(rng.uniform(0.45, 0.9))
        loudest = False
        near = slice(*np.searchsorted(time, (strike - _REACH * _CLAPPER, strike + _REACH * _CLAPPER)))
        sound[near] += force * np.exp(-0.5 * np.square((time[near] - strike) / _CLAPPER))
        add_body(sound, time, strike, 0.5 * force, rng)
        strike += _STRIKE_GRID * int(rng.integers(14, 24))
    edge = np.minimum(1.0, (frames - np.arange(frames)) / max(1.0, 0.02 * rate))
    sound *= edge
    loudness = amplitude(request) / float(np.abs(sound).max())
    return np.asarray(sound * loudness)


def _noise(request: SignalRequest, frames: int, rate: int) -> Mono:
    """White, pink or band noise of an exact RMS; shaped on its spectrum, so that it repeats without a seam."""
    white = np.random.default_rng(request.seed).standard_normal(frames)
    if request.color != "white":
        spectrum = np.fft.rfft(white)
        frequency = np.fft.rfftfreq(frames, 1 / rate)
        if request.color == "pink":
            spectrum *= np.sqrt(20.0 / np.maximum(frequency, 20.0))
        else:
            end = _top(request, rate)
            if not 0.0 <= request.start < end <= rate / 2:
                raise BadParameter("end", end, f"above the band's start and at most half the rate, {rate / 2:g} Hz")
            spectrum[(frequency < request.start) | (frequency > end)] = 0.0
        white = np.fft.irfft(spectrum, frames)
    power = float(np.mean(white**2))
    if power <= 0.0:
        raise BadParameter("seconds", request.seconds, "long enough to hold the band")
    return white * (amplitude(request) / math.sqrt(2 * power))


def _clicks(request: SignalRequest, frames: int, rate: int) -> Mono:
    """A wide-band pulse of half a millisecond on every beat."""
    sound = np.zeros(frames)
    time = np.arange(round(0.004 * rate)) / rate
    pulse = np.exp(-time / 0.0004) * np.sin(2 * np.pi * 2500.0 * time + 0.6)
    pulse *= amplitude(request) / float(np.abs(pulse).max())
    for beat in range(math.ceil(request.seconds * request.tempo / 60)):
        at = round(beat * 60 / request.tempo * rate)
        room = min(len(pulse), frames - at)
        sound[at : at + room] += pulse[:room]
    return sound


def _impulse(request: SignalRequest, frames: int, _rate: int) -> Mono:
    sound = np.zeros(frames)
    sound[min(frames - 1, frames // 8)] = amplitude(request)
    return sound


def _pair(request: SignalRequest, frames: int, rate: int) -> Mono:
    """Two sines whose amplitudes stand in a ratio and add up to the level."""
    _below_half("frequency", request.frequency, rate)
    _below_half("second", request.second, rate)
    upper = amplitude(request) / (1 + request.ratio)
    time = np.arange(frames)
    first = request.ratio * np.sin(2 * np.pi * np.mod(request.frequency * time / rate, 1.0))
    return (
        upper * (first + np.sin(2 * np.pi * np.mod(request.second * time / rate, 1.0))) * fades(request, frames, rate)
    )


def _top(request: SignalRequest, rate: int) -> float:
    return request.end if request.end is not None else min(20_000.0, 0.45 * rate)


def _step_count(request: SignalRequest, rate: int) -> int:
    octaves = math.log2(max(1.0, _top(request, rate) / request.start))
    return int(octaves * request.per_octave + 1e-9) + 1


def _stairs(request: SignalRequest) -> Mono:
    return np.arange(request.lowest, request.level + 1e-9, request.climb)


def _steps(request: SignalRequest, _frames: int, rate: int) -> Mono:
    """Tones from start to end, evenly spaced in octaves, each faded at its ends."""
    _below_half("start", request.start, rate)
    _below_half("end", _top(request, rate), rate)
    size = round(request.step_seconds * rate)
    fade = fades(request, size, rate)
    tones = [request.start * 2 ** (k / request.per_octave) for k in range(_step_count(request, rate))]
    return amplitude(request) * np.concatenate(
        [np.sin(2 * np.pi * np.mod(f * np.arange(size) / rate, 1.0)) * fade for f in tones]
    )


def _staircase(request: SignalRequest, _frames: int, rate: int) -> Mono:
    """One sine of continuous phase whose level climbs from the lowest to the level."""
    _below_half("frequency", request.frequency, rate)
    size = round(request.step_seconds * rate)
    heights = np.repeat(10 ** (_stairs(request) / 20), size)
    return heights * np.sin(2 * np.pi * np.mod(request.frequency * np.arange(len(heights)) / rate, 1.0))


def _burst(request: SignalRequest, frames: int, rate: int) -> Mono:
    """A quarter of the time low, a quarter high, half of it low."""
    _below_half("frequency", request.frequency, rate)
    envelope = np.full(frames, 10 ** (-request.low / 20))
    envelope[frames // 4 : frames // 2] = 1.0
    return amplitude(request) * envelope * np.sin(2 * np.pi * np.mod(request.frequency * np.arange(frames) / rate, 1.0))


def _sequence(request: SignalRequest, frames: int, _rate: int) -> Mono:
    """A maximum-length sequence of ±level, over and over; its length is counted in samples, whatever the rate.

    Source: S. W. Golomb, Shift register sequences, 1967; the taps are those of scipy.signal.max_len_seq.
    """
    from scipy.signal import max_len_seq  # slow to load, and no other signal needs it

    bits, _ = max_len_seq(request.order)
    return np.asarray(amplitude(request) * np.resize(2.0 * bits - 1.0, frames))


def _piece(request: SignalRequest, frames: int, rate: int) -> Mono:
    sound = play(request, frames, rate)
    power = float(np.mean(sound**2))
    if power <= 0.0:
        raise BadParameter("seconds", request.seconds, "long enough for the piece to begin")
    return sound * (amplitude(request) / math.sqrt(2 * power))


def _silence(_request: SignalRequest, frames: int, _rate: int) -> Mono:
    return np.zeros(frames)


_MAKERS: dict[SignalKind, Callable[[SignalRequest, int, int], Mono]] = {
    "tone": _tone, "sweep": _sweep, "bells": _bells, "noise": _noise, "clicks": _clicks, "impulse": _impulse,
    "pair": _pair, "steps": _steps, "staircase": _staircase, "burst": _burst, "sequence": _sequence,
    "piece": _piece, "silence": _silence,
}  # fmt: skip


def _below_half(name: str, frequency: float, rate: int) -> None:
    if not 0.0 < frequency < rate / 2:
        raise BadParameter(name, frequency, f"above 0 and below half the rate, {rate / 2:g} Hz")
