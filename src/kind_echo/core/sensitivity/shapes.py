"""The faults themselves as closed forms, each prepared once for the samples that it goes into.

Every function takes samples of shape (frames, channels) and a sample rate in Hz. Where a fault has a place, that is the
loudest passage.
"""

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.audio.warping import read_between
from kind_echo.core.sensitivity.fault import Grow

_LOUD_SECONDS = 0.05
_LEVEL_SECONDS = 0.01
_WANDER_HZ = 3.0
_KNEE_DB = 20.0  # dB under the greatest level, from which a level control takes hold
_Q = 1.4
_SEED = 34
_SERIES_SAMPLES = 0.5
_NEGLIGIBLE = 1e-12
_AROUND_FRAMES = 256  # frames of silence, so that the end does not reach the start


def loudest(x: Samples, rate: int) -> int:
    """The frame in the middle of the loudest 50 ms."""
    length = min(len(x), max(1, round(_LOUD_SECONDS * rate)))
    energy = np.concatenate([[0.0], np.cumsum((x**2).sum(axis=1))])
    return int(np.argmax(energy[length:] - energy[:-length])) + length // 2


def gain(x: Samples, rate: int) -> Grow:
    """All channels louder, by dB."""
    return lambda size: x * 10 ** (size / 20)


def channel_gain(x: Samples, rate: int) -> Grow | None:
    """The last of several channels louder, by dB."""
    if x.shape[1] < 2:
        return None
    return lambda size: np.column_stack([x[:, :-1], x[:, -1:] * 10 ** (size / 20)])


def late(x: Samples, rate: int) -> Grow:
    """Later by whole samples; as long as before."""

    def grow(size: float) -> Samples:
        shift = min(round(size), len(x))
        return np.concatenate([np.zeros((shift, x.shape[1])), x[: len(x) - shift]])

    return grow


def fraction_late(x: Samples, rate: int) -> Grow:
    """Later by a fraction of a sample."""
    return _moved(x, lambda size: np.full(len(x), size))


def drift(x: Samples, rate: int) -> Grow:
    """A clock that is slower by ppm: in the middle of the file in time."""
    return _moved(x, lambda size: size * 1e-6 * (np.arange(len(x)) - len(x) / 2))


def wander(x: Samples, rate: int) -> Grow:
    """Late and early by samples, three times a second."""
    swing = np.sin(2 * np.pi * _WANDER_HZ * np.arange(len(x)) / rate)
    return _moved(x, lambda size: size * swing)


def _moved(x: Samples, late_by: Callable[[float], NDArray[Any]]) -> Grow:
    """Late by samples that change along the file: by Taylor's series where that is less than one, else by a sinc."""
    source, slopes = ArraySource(x, 1), _Slopes(x)

    def grow(size: float) -> Samples:
        late = late_by(size)
        most = float(np.abs(late).max(initial=0.0))
        if most >= _SERIES_SAMPLES:
            return read_between(source, np.arange(len(x)) - late)
        y, power, order = x.copy(), np.ones(len(x)), 0
        # Of what goes up to half the rate, each term is at most so large.
        while (np.pi * most) ** (order + 1) / math.factorial(order + 1) > _NEGLIGIBLE:
            order += 1
            power = power * -late / order
            y += power[:, None] * slopes.order(order)
        return y

    return grow


class _Slopes:
    """The derivatives of what samples stand for, by samples: those of the sum of sincs."""

    def __init__(self, x: Samples) -> None:
        self._length = len(x)
        self._spectrum = np.fft.rfft(x, len(x) + 2 * _AROUND_FRAMES, axis=0)
        self._omega = 2j * np.pi * np.fft.rfftfreq(len(x) + 2 * _AROUND_FRAMES)[:, None]
        self._known: list[Samples] = []

    def order(self, order: int) -> Samples:
        """The derivative of an order from 1 on."""
        while len(self._known) < order:
            turned = self._spectrum * self._omega ** (len(self._known) + 1)
            slope = np.fft.irfft(turned, self._length + 2 * _AROUND_FRAMES, axis=0)[: self._length]
            self._known.append(slope)
        return self._known[order - 1]


def polarity(x: Samples, rate: int) -> Grow:
    """All channels inverted."""
    return lambda _: -x


def one_polarity(x: Samples, rate: int) -> Grow | None:
    """The last of several channels inverted."""
    return None if x.shape[1] < 2 else lambda _: np.column_stack([x[:, :-1], -x[:, -1:]])


def peak_at(hertz: float) -> Callable[[Samples, int], Grow | None]:
    """A bell of an octave's width at a frequency, up by dB; nothing at 0.45 of the rate and beyond.

    R. Bristow-Johnson, Cookbook formulae for audio EQ biquad filter coefficients: peaking EQ.
    """

    def prepare(x: Samples, rate: int) -> Grow | None:
        from scipy.signal import lfilter

        if hertz >= 0.45 * rate:
            return None
        angle = 2 * np.pi * hertz / rate
        alpha, turn = np.sin(angle) / (2 * _Q), -2 * np.cos(angle)

        def grow(size: float) -> Samples:
            a = 10 ** (size / 40)
            b = [1 + alpha * a, turn, 1 - alpha * a]
            return np.asarray(lfilter(b, [1 + alpha / a, turn, 1 - alpha / a], x, axis=0))

        return grow

    return prepare


def noise(x: Samples, rate: int) -> Grow:
    """White noise of its own in each channel, by its level in dBFS."""
    drawn = np.random.default_rng(_SEED).standard_normal(x.shape) / np.sqrt(2)  # 0 dBFS is the power of a sine
    return lambda size: x + 10 ** (size / 20) * drawn


def hum(x: Samples, rate: int) -> Grow:
    """A tone of 50 Hz, by its level in dBFS."""
    tone = np.sin(2 * np.pi * 50.0 * np.arange(len(x)) / rate)[:, None]
    return lambda size: x + 10 ** (size / 20) * tone


def aliases(x: Samples, rate: int) -> Grow | None:
    """The top octave folded down, as a filter that is left out folds it: by its level in dB of what was there.

    None for a sound that has nothing there.
    """
    from scipy.signal import butter, sosfiltfilt

    high = butter(8, 0.5, "highpass", output="sos")
    top = sosfiltfilt(high, x, axis=0, padlen=min(200, len(x) - 1))
    if 2 * np.mean(top**2) < 1e-20 or np.mean(top**2) < 1e-12 * np.mean(x**2):
        return None
    folded = top * np.where(np.arange(len(x)) % 2, -1.0, 1.0)[:, None]
    return lambda size: x + 10 ** (size / 20) * folded


def click(x: Samples, rate: int) -> Grow:
    """A single sample off, by its level in dBFS."""
    place = loudest(x, rate)

    def grow(size: float) -> Samples:
        y = x.copy()
        y[place] -= np.copysign(10 ** (size / 20), y[place])
        return y

    return grow


def dropout(x: Samples, rate: int) -> Grow:
    """Zeros for so many samples in the loudest passage."""
    return _silenced(x, lambda count: slice(max(0, loudest(x, rate) - count // 2), None), rate)


def tail_cut(x: Samples, rate: int) -> Grow:
    """Zeros in place of so many of the last samples that sound."""
    end = int(np.flatnonzero(x.any(axis=1))[-1]) + 1 if x.any() else len(x)
    return _silenced(x, lambda count: slice(max(0, end - count), None), rate)


def start_silent(x: Samples, rate: int) -> Grow:
    """Zeros in place of so many of the first samples that sound."""
    first = int(np.argmax(x.any(axis=1)))
    return _silenced(x, lambda count: slice(first, None), rate)


def _silenced(x: Samples, begin: Callable[[int], slice], rate: int) -> Grow:
    def grow(size: float) -> Samples:
        y, count = x.copy(), round(size)
        start = begin(count).start
        y[start : start + count] = 0.0
        return y

    return grow


def repeated(x: Samples, rate: int) -> Grow:
    """A block of so many samples in the loudest passage once more in place of the one after it."""
    place = loudest(x, rate)

    def grow(size: float) -> Samples:
        y, count = x.copy(), round(size)
        start = max(0, min(place, len(x) - 2 * count))
        after = y[start + count : start + 2 * count]
        after[:] = x[start : start + len(after)]
        return y

    return grow


def jump(x: Samples, rate: int) -> Grow:
    """So many samples lost in the loudest passage: what follows is early, and the end is silent."""
    place = loudest(x, rate)

    def grow(size: float) -> Samples:
        count = min(round(size), len(x) - place)
        return np.concatenate([x[:place], x[place + count :], np.zeros((count, x.shape[1]))])

    return grow


def offset(x: Samples, rate: int) -> Grow:
    """A constant, by its level in dBFS."""
    return lambda size: x + 10 ** (size / 20)


def swapped(x: Samples, rate: int) -> Grow | None:
    """The first two channels in each other's place."""
    return None if x.shape[1] < 2 else lambda _: np.column_stack([x[:, 1], x[:, 0], x[:, 2:]])


def missing(x: Samples, rate: int) -> Grow:
    """The last channel silent."""
    return lambda _: np.column_stack([x[:, :-1], np.zeros((len(x), 1))])


def mixed(x: Samples, rate: int) -> Grow | None:
    """The first channel in the second as well, by its level in dB."""
    if x.shape[1] < 2:
        return None
    return lambda size: np.column_stack([x[:, :1], x[:, 1:2] + 10 ** (size / 20) * x[:, :1], x[:, 2:]])


def saturated(x: Samples, rate: int) -> Grow:
    """A cubic in each sample: by the third harmonic, in dB, that it makes of a sine as high as the greatest sample."""
    peak = float(np.abs(x).max(initial=0.0)) or 1.0
    # cos³ = 3/4·cos + 1/4·cos 3φ
    return lambda size: x - 4 * 10 ** (size / 20) * x**3 / peak**2


def clipped(x: Samples, rate: int) -> Grow:
    """The highest peaks cut off, by dB."""
    peak = float(np.abs(x).max(initial=0.0))

    def grow(size: float) -> Samples:
        rail = peak * 10 ** (-size / 20)
        return x.clip(-rail, rail)

    return grow


def coarse(x: Samples, rate: int) -> Grow:
    """Rounded to fewer bits: by the level in dBFS of one step."""
    return lambda size: np.round(x / 10 ** (size / 20)) * 10 ** (size / 20)


def controlled(x: Samples, rate: int) -> Grow:
    """A gain that follows the level of all channels, within 10 ms: so many dB less at the greatest level, in parts of
    that under it, and none from 20 dB below on."""
    from scipy.ndimage import uniform_filter1d

    level = uniform_filter1d((x**2).mean(axis=1), max(1, round(_LEVEL_SECONDS * rate)), mode="nearest")
    most = float(level.max(initial=0.0)) or 1.0
    with np.errstate(divide="ignore"):
        under = 10 * np.log10(np.maximum(level, 0.0) / most)
    share = np.clip(1 + under / _KNEE_DB, 0.0, 1.0)[:, None]
    return lambda size: x * 10 ** (-size / 20 * share)


def fading(x: Samples, rate: int) -> Grow:
    """A gain that goes from half as many dB above to half as many below in the course of the file."""
    course = (0.5 - np.arange(len(x)) / max(1, len(x) - 1))[:, None]
    return lambda size: x * 10 ** (size / 20 * course)


def unchanged(x: Samples, rate: int) -> Grow:
    """No sample changed."""
    return lambda _: x
