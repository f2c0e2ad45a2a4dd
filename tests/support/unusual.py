"""What hosts and effects do wrong now and then: blocks lost, levels that move, delays that wander, mixed channels."""

from dataclasses import replace

import numpy as np
from scipy import signal

from tests.support.planted import (
    Change,
    Planted,
    Samples,
    all_pass,
    both,
    compressed,
    in_channel,
    one,
    peaking,
    rounded,
    scaled,
    shifted,
)


def repeated(share: float, frames: int) -> Change:
    """From a place on so many frames late: the frames before it come once more."""

    def make(x: Samples, rate: int) -> Samples:
        at = round(share * len(x))
        return np.concatenate([x[:at], x[at - frames : at], x[at:]])[: len(x)]

    return make


def lost(share: float, frames: int) -> Change:
    """From a place on so many frames early; nothing at the end."""

    def make(x: Samples, rate: int) -> Samples:
        at = round(share * len(x))
        return np.concatenate([x[:at], x[at + frames :], np.zeros((frames, x.shape[1]))])

    return make


def swapped(share: float, frames: int) -> Change:
    """Two blocks in each other's place."""

    def make(x: Samples, rate: int) -> Samples:
        y, at = x.copy(), round(share * len(x))
        y[at : at + frames], y[at + frames : at + 2 * frames] = x[at + frames : at + 2 * frames], x[at : at + frames]
        return y

    return make


def stuttered(share: float, frames: int) -> Change:
    """A block in place of the one after it."""

    def make(x: Samples, rate: int) -> Samples:
        y, at = x.copy(), round(share * len(x))
        y[at : at + frames] = x[at - frames : at]
        return y

    return make


def stepped(share: float, decibels: float) -> Change:
    """A level that steps."""
    return lambda x, rate: x * np.where(np.arange(len(x)) < share * len(x), 1.0, 10 ** (decibels / 20))[:, None]


def ramped(decibels: float) -> Change:
    """A level that goes from one to another all along."""
    return lambda x, rate: x * (10 ** (np.linspace(0.0, decibels, len(x)) / 20))[:, None]


def faded(seconds: float, *, out: bool) -> Change:
    """A straight fade at one end."""

    def make(x: Samples, rate: int) -> Samples:
        rise = np.clip((np.arange(len(x)) + 0.5) / (seconds * rate), 0.0, 1.0)
        return np.asarray(x * (rise[::-1] if out else rise)[:, None])

    return make


def swinging(decibels: float, hertz: float) -> Change:
    """A level that goes up and down."""
    return lambda x, rate: x * (10 ** (decibels * np.sin(2 * np.pi * hertz * np.arange(len(x)) / rate) / 20))[:, None]


def wandering(samples: float, hertz: float) -> Change:
    """A delay that goes to and fro: read between samples by a spline of the fifth order on eight times the rate."""

    def make(x: Samples, rate: int) -> Samples:
        from scipy.interpolate import make_interp_spline

        n = np.arange(len(x))
        places = np.clip(n - samples * np.sin(2 * np.pi * hertz * n / rate), 0, len(x) - 1)
        wide = signal.resample(np.pad(x, ((512, 512), (0, 0))), 8 * (len(x) + 1024), axis=0)
        return np.asarray(make_interp_spline(np.arange(len(wide)), wide, k=5)(8 * (places + 512)))

    return make


def mixed(*rows: tuple[float, float]) -> Change:
    """Each channel a sum of the two."""
    return lambda x, rate: np.ascontiguousarray(x @ np.array(rows).T)


def echoing(seconds: float, decibels: float) -> Change:
    """A late copy."""

    def make(x: Samples, rate: int) -> Samples:
        late = round(seconds * rate)
        return x + 10 ** (decibels / 20) * np.concatenate([np.zeros((late, x.shape[1])), x])[: len(x)]

    return make


def humming(hertz: float, *levels: float) -> Change:
    """A tone and its harmonics, in dBFS."""

    def make(x: Samples, rate: int) -> Samples:
        t = np.arange(len(x)) / rate
        tones = [10 ** (a / 20) * np.sin(2 * np.pi * hertz * k * t + k) for k, a in enumerate(levels, 1)]
        return np.asarray(x + np.sum(tones, axis=0)[:, None])

    return make


def turned(x: Samples, rate: int) -> Samples:
    """All phases by a quarter of a turn."""
    return np.ascontiguousarray(signal.hilbert(x, axis=0).imag)


def moved(hertz: float) -> Change:
    """All frequencies by so many Hz."""

    def make(x: Samples, rate: int) -> Samples:
        turn = np.exp(2j * np.pi * hertz * np.arange(len(x)) / rate)[:, None]
        return np.ascontiguousarray((signal.hilbert(x, axis=0) * turn).real)

    return make


def chorus(x: Samples, rate: int) -> Samples:
    """With a copy at −3 dB, 15 ms late, which wanders by 2 ms at 0.8 Hz."""
    late = np.concatenate([np.zeros((round(0.015 * rate), x.shape[1])), x])[: len(x)]
    return (x + 0.7 * wandering(0.002 * rate, 0.8)(late, rate)) / 1.7


def from_half_way(change: Change) -> Change:
    """Switched on in the middle."""

    def make(x: Samples, rate: int) -> Samples:
        return np.concatenate([x[: len(x) // 2], change(x, rate)[len(x) // 2 :]])

    return make


def two_bands(x: Samples, rate: int) -> Samples:
    """A level control of its own under and over 800 Hz."""
    b, a = signal.butter(1, 800.0, "low", fs=rate)
    low = signal.lfilter(b, a, x, axis=0)
    return compressed(low, rate) + compressed(x - low, rate)


def hissing(decibels: float, seed: int, *, pink: bool = False) -> Change:
    """With noise of its own, so many dB under the sound; another seed is another take."""

    def make(x: Samples, rate: int) -> Samples:
        noise = np.random.default_rng(seed).standard_normal(x.shape)
        if pink:
            slope = np.fft.rfftfreq(len(x), 1 / rate)[:, None]
            noise = np.fft.irfft(np.fft.rfft(noise, axis=0) / np.sqrt(np.maximum(slope, 20.0)), len(x), axis=0)
        return np.asarray(x + noise * 10 ** (decibels / 20) * np.sqrt(np.mean(x**2) / np.mean(noise**2)))

    return make


def takes(
    name: str, decibels: float, change: Change | None = None, *causes: str, render: float = 0.0, pink: bool = False
) -> Planted:
    """Two takes of a noisy effect: the noise of the render so many dB over the reference's, and another change."""
    noisy = hissing(decibels + render, 2, pink=pink)
    planted = one(name, noisy if change is None else both(noisy, change), "noise", *causes)
    return replace(planted, before=hissing(decibels, 1, pink=pink))


UNUSUAL = (
    one("512 frames twice", repeated(0.4, 512), "time_jump"),
    one("64 frames twice", repeated(0.55, 64), "time_jump"),
    one("1,000 frames lost", lost(0.6, 1000), "time_jump"),
    one("256 lost and 441 twice", both(lost(0.3, 256), repeated(0.7, 441)), "time_jump"),
    one("blocks of 2,048 exchanged", swapped(0.45, 2048), "time_jump"),
    one("a block of 1,024 in the place of the next", stuttered(0.5, 1024), "time_jump"),
    one("480 frames twice and 1 dB down", both(repeated(0.35, 480), scaled(-1.0)), "time_jump", "gain"),
    one("3 dB down from half-way", stepped(0.5, -3.0), "gain_motion"),
    one("0.5 dB up from a third on", stepped(0.33, 0.5), "gain_motion"),
    one("a ramp of −2 dB", ramped(-2.0), "gain_motion"),
    one("fade out of 1 s", faded(1.0, out=True), "gain_motion"),
    one("fade in of half a second", faded(0.5, out=False), "gain_motion"),
    one("level swings by 1 dB at 4 Hz", swinging(1.0, 4.0), "gain_motion"),
    one("a channel 2 dB down from half-way", in_channel(1, stepped(0.5, -2.0)), "gain_motion"),
    one("wanders by 2.8 samples at 0.7 Hz", wandering(2.8, 0.7), "wander"),
    one("wanders by half a sample at 5 Hz", wandering(0.5, 5.0), "wander"),
    one("wanders by 20 samples at 1 Hz", wandering(20.0, 1.0), "wander"),
    one("second channel upside down", in_channel(1, lambda x, rate: -x), "polarity"),
    one("first channel upside down, equalised", both(peaking(900.0, 4.0, 1.0), in_channel(0, lambda x, rate: -x)),
        "polarity", "filter"),
    one("folded to one", mixed((0.5, 0.5), (0.5, 0.5)), "channel_mix"),
    one("sides 3 dB down", mixed((0.854, 0.146), (0.146, 0.854)), "channel_mix"),
    one("crosstalk at −30 dB", mixed((1.0, 0.0316), (0.0316, 1.0)), "channel_mix"),
    one("second channel the mean of both", mixed((1.0, 0.0), (0.5, 0.5)), "channel_mix"),
    one("three all-passes", both(all_pass(300.0), all_pass(1000.0), all_pass(3000.0)), "filter"),
    one("a quarter of a turn", turned, "filter", rest=("polarity",)),
    one("1 Hz higher", moved(1.0)),
    one("echo after 250 ms at −12 dB", echoing(0.25, -12.0), "echo"),
    one("echo after 80 ms at −20 dB", echoing(0.08, -20.0), "echo"),
    one("echo after 9 ms at −10 dB", echoing(0.009, -10.0), "echo"),
    one("hum of 50 Hz with harmonics", humming(50.0, -55.0, -65.0, -60.0), "added_tone"),
    one("a tone of 1 kHz at −70 dBFS", humming(1000.0, -70.0), "added_tone"),
    one("24 bit", rounded(24, dithered=False), "quantisation"),
    one("0.01 dB down in 16 bit", both(scaled(-0.01), rounded(16, dithered=False)), "quantisation", rest=("gain",)),
    one("chorus", chorus),
    one("equaliser from half-way", from_half_way(peaking(1000.0, 6.0, 1.0)), "filter", rest=("click",)),
    one("level control in two bands", two_bands, "level_control", rest=("gain",)),
    takes("two takes with noise at −60 dB", -60.0),
    takes("two takes with noise at −15 dB", -15.0),
    takes("two takes with pink noise at −30 dB", -30.0, pink=True),
    takes("two takes, the second 3 dB noisier", -45.0, render=3.0),
    takes("two noisy takes, 0.5 dB down", -40.0, scaled(-0.5), "gain"),
    takes("two noisy takes, 40 samples late", -35.0, shifted(40), "delay"),
    replace(takes("noise at −40 dB gone", -40.0), make=lambda x, rate: x.copy()),
)  # fmt: skip
"""Where no cause is named, nothing may be told but that it is not explained."""
