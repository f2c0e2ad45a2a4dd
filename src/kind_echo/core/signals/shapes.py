"""Shapes that several signals are made of, closed in continuous time, so that every rate gets the same sound."""

import math

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.registry.errors import BadParameter

Mono = NDArray[np.float64]

_PARTIALS = ((0.5, 0.16, 1.9), (1.0, 0.15, 1.3), (1.19, 0.11, 1.0), (1.56, 0.07, 0.7), (2.0, 0.1, 0.6),
             (2.66, 0.05, 0.4), (3.01, 0.04, 0.3), (4.17, 0.03, 0.2))  # fmt: skip
_HUM = 311.0  # Hz of the buoy's prime
_RINGS = 42.0  # time constants after which a partial is 2^-60 of what it was
_STRIKE = 0.002  # s over which the body of the bell begins to ring


def sine(frequency: float, frames: int, rate: int) -> Mono:
    """A sine of amplitude 1 from phase 0, its phase kept small so that a long one is as exact as a short one."""
    return np.sin(2 * np.pi * np.mod(frequency * np.arange(frames) / rate, 1.0))


def below_half(name: str, frequency: float, rate: int) -> None:
    """Raises BadParameter for a frequency that a rate does not carry."""
    if not 0.0 < frequency < rate / 2:
        raise BadParameter(name, frequency, f"above 0 and below half the rate, {rate / 2:g} Hz")


def top_frequency(end: float | None, rate: int) -> float:
    """Where a sweep ends, in Hz: as asked for, or at 0.45 of the rate, at most 20 kHz."""
    return end if end is not None else min(20_000.0, 0.45 * rate)


def check_fade(fade: float, seconds: float) -> None:
    """Raises BadParameter for fades that would overlap in a sound of so many seconds."""
    if fade > seconds / 2:
        raise BadParameter("fade", fade, f"from 0 to {seconds / 2:g}")


def fades(fade: float, frames: int, rate: int) -> Mono:
    """Ones with a raised cosine of so many seconds at either end."""
    length = min(round(fade * rate), frames // 2)
    shape = np.ones(frames)
    if length:
        rise = 0.5 - 0.5 * np.cos(np.pi * np.arange(length) / length)
        shape[:length] = rise
        shape[-length:] = rise[::-1]
    return shape


def add_body(sound: Mono, time: Mono, strike: float, force: float, rng: np.random.Generator) -> None:
    """Add the inharmonic partials of a bell struck at a time, each until it is under all rounding."""
    begin = int(np.searchsorted(time, strike))
    after = time[begin : int(np.searchsorted(time, strike + _RINGS * max(decay for *_, decay in _PARTIALS)))] - strike
    body = np.zeros(len(after))
    for ratio, weight, decay in _PARTIALS:
        detune = float(rng.uniform(0.999, 1.001))
        t = after[: int(np.searchsorted(after, _RINGS * decay))]
        body[: len(t)] += weight * np.exp(-t / decay) * np.sin(2 * np.pi * _HUM * ratio * detune * t)
    sound[begin : begin + len(body)] += force * body * -np.expm1(-after / _STRIKE)


def add_grain(sound: Mono, rate: int, start: float, frequency: float, decay: float, force: float) -> None:
    """Add a sine that sets in softly at a time and dies away, cut off 80 dB down."""
    begin = math.ceil(start * rate)
    end = min(len(sound), begin + math.ceil(9.2 * decay * rate))
    after = np.arange(begin, end) / rate - start
    rise = 1.0 - np.exp(-np.square(after / (0.35 * decay)))
    sound[begin:end] += force * rise * np.exp(-after / decay) * np.sin(2 * np.pi * frequency * after)
