"""Changes planted in test signals: tones, sweeps, staircases, bursts, clicks, noise; what each can tell and no more."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy import signal

from tests.support.planted import (
    Change,
    Planted,
    Samples,
    butter,
    clipped,
    noisy,
    one,
    peaking,
    rounded,
    scaled,
    shifted,
)
from tests.support.unusual import humming, repeated

Made = Callable[[int], Samples]


def _tone(*hertz: float, level: float = 0.5, seconds: float = 3.0) -> Made:
    def make(rate: int) -> Samples:
        t = np.arange(round(seconds * rate)) / rate
        waves = np.sum([np.sin(2 * np.pi * f * t + 0.3 * k) for k, f in enumerate(hertz)], axis=0)
        return np.asarray(level / len(hertz) * waves[:, None])

    return make


def _levels(decibels: list[float], seconds: float) -> Made:
    """A tone of 1 kHz whose phase goes on, at one level after the other."""

    def make(rate: int) -> Samples:
        size = round(seconds * rate)
        t = np.arange(size * len(decibels)) / rate
        return (np.repeat(10 ** (np.array(decibels) / 20), size) * np.sin(2 * np.pi * 1000.0 * t))[:, None]

    return make


def _sweep(rate: int) -> Samples:
    t = np.arange(3 * rate) / rate
    return 0.5 * signal.chirp(t, 20.0, 3.0, 0.45 * rate, "logarithmic")[:, None]


def _clicks(*seconds: float) -> Made:
    def make(rate: int) -> Samples:
        x = np.zeros((3 * rate, 1))
        x[[round(s * rate) for s in seconds]] = 0.5
        return x

    return make


def _square(rate: int) -> Samples:
    """Band-limited: the odd harmonics of 440 Hz under half the rate."""
    t = np.arange(3 * rate) / rate
    orders = range(1, int(0.49 * rate / 440.0) + 1, 2)
    return np.asarray(0.4 * np.sum([np.sin(2 * np.pi * 440.0 * k * t) / k for k in orders], axis=0)[:, None])


def _noise(rate: int) -> Samples:
    return 0.1 * np.random.default_rng(5).normal(size=(3 * rate, 1))


SIGNALS: dict[str, Made] = {
    "tone": _tone(997.0),
    "gated tone": _levels([-6.0, -400.0] * 4, 0.4),
    "chord": _tone(220.0, 277.2, 329.6, 440.0),
    "two tones": _tone(19_000.0, 20_000.0),
    "sweep": _sweep,
    "staircase": _levels([-60.0 + 4.0 * k for k in range(15)], 0.2),
    "burst": _levels([-30.0, -6.0, -30.0, -6.0, -30.0], 0.5),
    "clicks": _clicks(0.5, 1.0, 1.5, 2.0, 2.5),
    "impulse": _clicks(0.7),
    "square": _square,
    "noise": _noise,
    "silence": lambda rate: np.zeros((2 * rate, 1)),
    "DC": lambda rate: np.full((2 * rate, 1), 0.1),
}
STEADY = ("tone", "gated tone", "staircase", "burst")
MUSICAL = ("tone", "gated tone", "chord", "two tones", "sweep", "staircase", "burst", "noise")
SHARP = ("clicks", "impulse")
_SURE = ("gated tone", "sweep", "staircase", "burst", *SHARP, "noise")  # inverted, they are not the same later


@dataclass(frozen=True)
class OnSignal:
    """A change of a test signal."""

    signal: str
    planted: Planted


def saturating(oversampled: int) -> Change:
    """A clipper that runs at so many times the rate: its harmonics fall by 12 dB an octave."""

    def make(x: Samples, rate: int) -> Samples:
        wide = signal.resample_poly(x, oversampled, 1, axis=0) if oversampled > 1 else x
        bent = np.clip(wide, -0.3, 0.3)
        return signal.resample_poly(bent, 1, oversampled, axis=0) if oversampled > 1 else bent

    return make


def controlled(attack: float, release: float, threshold: float) -> Change:
    """A level control of 4:1 over a threshold in dBFS; its times in seconds."""

    def make(x: Samples, rate: int) -> Samples:
        rise, fall = np.exp(-1 / (attack * rate)), np.exp(-1 / (release * rate))
        over = np.maximum(20 * np.log10(np.abs(signal.hilbert(x[:, 0])) + 1e-9) - threshold, 0.0) * 0.75
        gain, state = np.empty(len(x)), 0.0
        for i, value in enumerate(over):
            state = value + (rise if value > state else fall) * (state - value)
            gain[i] = state
        return np.asarray(x * (10 ** (-gain / 20))[:, None])

    return make


def _on(
    signals: tuple[str, ...],
    name: str,
    make: Change,
    *causes: str,
    rest: tuple[str, ...] = (),
    instead: tuple[str, ...] = (),
) -> list[OnSignal]:
    return [OnSignal(where, one(name, make, *causes, rest=rest, instead=instead)) for where in signals]


def _made() -> tuple[OnSignal, ...]:
    most = tuple(name for name in SIGNALS if name not in ("silence", "DC"))
    wide = ("chord", "sweep", "clicks", "impulse", "square", "noise")
    found = [
        *_on(tuple(SIGNALS), "nothing", lambda x, r: x.copy(), "none"),
        *_on(most, "33 late", shifted(33), "delay"),
        *_on(("impulse", "clicks", "noise", "sweep"), "100 late", shifted(100), "delay"),
        *_on(most, "0.1 dB down", scaled(-0.1), "gain"),
        *_on(_SURE, "upside down", lambda x, r: -x, "polarity"),
        *_on(wide, "low-pass", butter(1, 5000.0, "low"), "filter"),
        *_on(STEADY, "low-pass", butter(1, 5000.0, "low"), "gain", rest=("delay",), instead=("filter",)),
        *_on(wide, "bell of 0.3 dB", peaking(1000.0, 0.3, 1.0), "filter"),
        *_on(STEADY, "bell of 0.3 dB", peaking(1000.0, 0.3, 1.0), "gain", rest=("delay",), instead=("filter",)),
        *_on(tuple(s for s in SIGNALS if s != "DC"), "noise at −80 dB", noisy(-80.0), "noise"),
        *_on(tuple(s for s in SIGNALS if s != "DC"), "hum at −80 dBFS", humming(50.0, -80.0), "added_tone"),
        *_on(("tone", "gated tone", "chord", "sweep", "staircase", "burst", "noise"), "a second harmonic",
             lambda x, r: x + 0.004 * x**2, "non_linear", rest=("dc",)),
        *_on(("tone", "gated tone", "chord", "two tones", "sweep", "burst", "noise"), "cut at −3 dB", clipped(-3.0),
             "clipping", rest=("aliasing",)),
        *_on(MUSICAL, "64 frames twice", repeated(0.47, 64), "time_jump"),
        *_on(tuple(s for s in most if s not in SHARP), "16 bit", rounded(16, dithered=True), "quantisation"),
        *_on(("DC",), "0.1001 for 0.1", lambda x, r: x * 1.001, "gain", instead=("dc",)),
        *_on(("DC",), "0.01 more", lambda x, r: x + 0.01, "dc"),
        *_on(("silence",), "an offset", lambda x, r: x + 0.001, "dc"),
    ]  # fmt: skip
    aliased = one("oversampling lost", saturating(1), "aliasing", rest=("gain",))
    found += [OnSignal(where, replace(aliased, before=saturating(8))) for where in ("tone", "two tones", "sweep")]
    slower = one("attack of 8 for 5 ms", controlled(0.008, 0.1, -20.0), "level_control", rest=("gain",))
    usual = controlled(0.005, 0.1, -20.0)
    found.append(OnSignal("burst", replace(slower, before=usual)))
    higher = one("threshold half a dB up", controlled(0.005, 0.1, -19.5), "level_control", rest=("non_linear", "gain"))
    found += [OnSignal(where, replace(higher, before=usual)) for where in ("burst", "staircase")]
    return tuple(found)


ON_SIGNALS = _made()
