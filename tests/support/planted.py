"""Changes planted in a sound, and the causes that each is to be named by."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import signal

from kind_echo.audio_io.codecs import LossyCodec
from kind_echo.core.audio.resampling import resample

Samples = NDArray[np.float64]
Change = Callable[[Samples, int], Samples]


@dataclass(frozen=True)
class Planted:
    """A change, and the causes that it has; `rest` are words that are right beside them.

    Attributes:
        instead: words, each of which is as right by itself.
        before: what is done to the reference; None for nothing.
    """

    name: str
    make: Change
    causes: frozenset[str]
    rest: frozenset[str] = frozenset()
    instead: frozenset[str] = frozenset()
    before: Change | None = None

    def sides(self, x: Samples, rate: int) -> tuple[Samples, Samples]:
        """The reference and the render that are made of a sound."""
        reference = x if self.before is None else self.before(x, rate)
        return np.ascontiguousarray(reference), np.ascontiguousarray(self.make(x, rate))


def shifted(frames: float) -> Change:
    """Later by frames, whole or not: the sound is padded, so that nothing comes round."""

    def make(x: Samples, rate: int) -> Samples:
        size = len(x) + 4096
        turn = np.exp(-2j * np.pi * np.fft.rfftfreq(size) * frames)[:, None]
        whole = round(frames)
        if whole == frames:
            moved = np.roll(np.concatenate([x, np.zeros((4096, x.shape[1]))]), whole, axis=0)
        else:
            moved = np.fft.irfft(np.fft.rfft(x, size, axis=0) * turn, size, axis=0)
        return moved[: len(x)]

    return make


def scaled(decibels: float) -> Change:
    """Louder."""
    return lambda x, rate: x * 10 ** (decibels / 20)


def peaking(frequency: float, decibels: float, q: float) -> Change:
    """A peaking equaliser: R. Bristow-Johnson, Cookbook formulae for audio equalizer biquad filter coefficients."""

    def make(x: Samples, rate: int) -> Samples:
        a, w = 10 ** (decibels / 40), 2 * np.pi * frequency / rate
        alpha = np.sin(w) / (2 * q)
        b = [1 + alpha * a, -2 * np.cos(w), 1 - alpha * a]
        return signal.lfilter(b, [1 + alpha / a, -2 * np.cos(w), 1 - alpha / a], x, axis=0)

    return make


def shelf(frequency: float, decibels: float) -> Change:
    """A treble shelf of the first order."""

    def make(x: Samples, rate: int) -> Samples:
        g, w = 10 ** (decibels / 20), 2 * rate * np.tan(np.pi * frequency / rate)
        b, a = signal.bilinear([g, w], [1, w], rate)
        return signal.lfilter(b, a, x, axis=0)

    return make


def butter(order: int, frequency: float, kind: str) -> Change:
    """A Butterworth filter."""
    return lambda x, rate: signal.lfilter(*signal.butter(order, frequency, kind, fs=rate), x, axis=0)  # type: ignore[call-overload]


def wall(frequency: float) -> Change:
    """A linear-phase brick wall, its latency taken off."""

    def make(x: Samples, rate: int) -> Samples:
        taps = signal.firwin(1023, frequency, fs=rate, window=("kaiser", 9.0))
        return signal.oaconvolve(x, taps[:, None], axes=0)[511 : 511 + len(x)]

    return make


def all_pass(frequency: float) -> Change:
    """An all-pass of the second order."""

    def make(x: Samples, rate: int) -> Samples:
        w = 2 * np.pi * frequency / rate
        alpha = np.sin(w) / (2 * 0.7)
        a = [1 + alpha, -2 * np.cos(w), 1 - alpha]
        return signal.lfilter(a[::-1], a, x, axis=0)

    return make


def in_channel(channel: int, change: Change) -> Change:
    """A change of one channel alone."""

    def make(x: Samples, rate: int) -> Samples:
        y = x.copy()
        y[:, channel : channel + 1] = change(x[:, channel : channel + 1], rate)
        return y

    return make


def drifting(ppm: float) -> Change:
    """A clock that runs slower by so many ppm."""

    def make(x: Samples, rate: int) -> Samples:
        import soxr

        y = soxr.resample(x, rate, rate * (1 + ppm * 1e-6), "VHQ")
        y = np.concatenate([y, np.zeros((max(0, len(x) - len(y)), x.shape[1]))])
        return np.ascontiguousarray(y[: len(x)])

    return make


def gapped(x: Samples, rate: int) -> Samples:
    """A dropout of 30 ms where it sounds."""
    y = x.copy()
    at = _loud(x, rate)
    y[at : at + round(0.03 * rate)] = 0.0
    return y


def clicking(x: Samples, rate: int) -> Samples:
    """Three samples out of place."""
    y = x.copy()
    for share, size in ((0.2, 0.5), (0.47, -0.4), (0.7, 0.6)):
        y[round(share * len(x)), :] += size
    return y


def clipped(decibels: float) -> Change:
    """Cut at so many decibels under the peak."""

    def make(x: Samples, rate: int) -> Samples:
        rail = np.abs(x).max() * 10 ** (decibels / 20)
        return np.clip(x, -rail, rail)

    return make


def saturated(drive: float) -> Change:
    """A smooth saturator."""
    return lambda x, rate: np.tanh(drive * x) / drive


def bent(x: Samples, rate: int) -> Samples:
    """A one-sided curve."""
    return x + 0.05 * x * np.abs(x) + 0.08 * x**2


def compressed(x: Samples, rate: int) -> Samples:
    """A level control: 3:1 over 14 dB under the peak, 5 ms and 80 ms."""
    level = np.abs(x).max(axis=1)
    rise, fall = np.exp(-1 / (0.005 * rate)), np.exp(-1 / (0.08 * rate))
    envelope, state = np.empty(len(x)), 0.0
    for i, value in enumerate(level):
        state = value + (rise if value > state else fall) * (state - value)
        envelope[i] = state
    threshold = np.abs(x).max() * 10 ** (-14 / 20)
    over = np.maximum(20 * np.log10(np.maximum(envelope, 1e-9) / threshold), 0.0)
    return x * (10 ** (-over * (1 - 1 / 3) / 20))[:, None]  # type: ignore[no-any-return]


def noisy(decibels: float) -> Change:
    """With white noise of its own."""

    def make(x: Samples, rate: int) -> Samples:
        rng = np.random.default_rng(len(x))
        return x + rng.normal(size=x.shape) * 10 ** (decibels / 20)

    return make


def rounded(bits: int, *, dithered: bool) -> Change:
    """In words of so many bits."""

    def make(x: Samples, rate: int) -> Samples:
        step, rng = 2.0 ** (1 - bits), np.random.default_rng(bits)
        dither = rng.uniform(-0.5, 0.5, x.shape) + rng.uniform(-0.5, 0.5, x.shape) if dithered else 0.0
        return np.clip(np.round(x / step + dither), -(2 ** (bits - 1)), 2 ** (bits - 1) - 1) * step

    return make


def coded(codec: str, bitrate: float) -> Change:
    """Through a real encoder and its decoder, the encoder's delay taken off."""

    def make(x: Samples, rate: int) -> Samples:
        encoder = LossyCodec(codec, bitrate, rate, x.shape[1])  # type: ignore[arg-type]
        y = resample(encoder.round_trip(resample(x, rate, encoder.rate)), encoder.rate, rate)
        lags = signal.correlate(y[: 4 * rate, 0], x[: 4 * rate, 0], method="fft")
        late = int(np.argmax(lags)) - (len(x[: 4 * rate]) - 1)
        y = y[late:] if late >= 0 else np.concatenate([np.zeros((-late, x.shape[1])), y])
        return np.concatenate([y, np.zeros((max(0, len(x) - len(y)), x.shape[1]))])[: len(x)]

    return make


def both(*changes: Change) -> Change:
    """One after the other."""

    def make(x: Samples, rate: int) -> Samples:
        for change in changes:
            x = change(x, rate)
        return x

    return make


def silent_channel(x: Samples, rate: int) -> Samples:
    """Nothing in the second channel."""
    return x * np.array([1.0, 0.0])  # type: ignore[no-any-return]


def not_finite(x: Samples, rate: int) -> Samples:
    """One sample that is no number."""
    y = x.copy()
    y[len(y) // 2, 0] = np.nan
    return y


def other_sound(x: Samples, rate: int) -> Samples:
    """Noise of the colour of the sound, which has nothing to do with it."""
    rng = np.random.default_rng(3)
    power = signal.welch(x[:, 0], nperseg=1024)[1]
    taps = np.fft.fftshift(np.fft.irfft(np.sqrt(power)))
    made = signal.oaconvolve(rng.normal(size=x.shape), taps[:, None], axes=0)[: len(x)]
    return made * np.sqrt(np.mean(x**2) / np.mean(made**2))  # type: ignore[no-any-return]


def _loud(x: Samples, rate: int) -> int:
    size = round(0.03 * rate)
    power = np.convolve((x**2).sum(axis=1), np.ones(size), "valid")
    inside = power[len(power) // 5 : 4 * len(power) // 5]
    return len(power) // 5 + int(inside.argmax())


def one(name: str, make: Change, *causes: str, rest: tuple[str, ...] = (), instead: tuple[str, ...] = ()) -> Planted:
    """A planted change."""
    return Planted(name, make, frozenset(causes), frozenset(rest), frozenset(instead))


SINGLE = (
    one("nothing", lambda x, rate: x.copy(), "none"),
    one("17 samples late", shifted(17), "delay"),
    one("500 samples early", shifted(-500), "delay"),
    one("0.4 of a sample late", shifted(0.4), "delay"),
    one("upside down", lambda x, rate: -x, "polarity"),
    one("1.5 dB down", scaled(-1.5), "gain"),
    one("0.1 dB up", scaled(0.1), "gain"),
    one("second channel 0.5 dB down", in_channel(1, scaled(-0.5)), "channel_gain"),
    one("clock 50 ppm slow", drifting(50.0), "drift"),
    one("peak of 3 dB at 1 kHz", peaking(1000.0, 3.0, 1.0), "filter"),
    one("dip of 6 dB at 400 Hz", peaking(400.0, -6.0, 2.0), "filter"),
    one("treble shelf", shelf(3000.0, -4.0), "filter"),
    one("first-order low-pass", butter(1, 4000.0, "low"), "filter"),
    one("high-pass at 100 Hz", butter(2, 100.0, "high"), "filter"),
    one("wall at 6 kHz", wall(6000.0), "filter"),
    one("all-pass at 1 kHz", all_pass(1000.0), "filter"),
    one("equaliser in one channel", in_channel(0, peaking(1500.0, 4.0, 1.0)), "filter"),
    one("offset", lambda x, rate: x + 0.004, "dc"),
    one("dropout", gapped, "gap"),
    one("clicks", clicking, "click"),
    one("1,000 frames short", lambda x, rate: x[:-1000], "length"),
    one("channels exchanged", lambda x, rate: x[:, ::-1].copy(), "channel_swap"),
    one("channel missing", silent_channel, "channel_missing"),
    one("silent", lambda x, rate: x * 0.0, "silent"),
    one("not a number", not_finite, "non_finite"),
    one("cut at −4 dB", clipped(-4.0), "clipping"),
    one("smooth saturation", saturated(1.5), "non_linear"),
    one("one-sided curve", bent, "non_linear"),
    one("level control", compressed, "level_control"),
    one("noise at −70 dB", noisy(-70.0), "noise"),
    one("16 bit", rounded(16, dithered=False), "quantisation"),
    one("16 bit with dither", rounded(16, dithered=True), "quantisation"),
    one("MPEG layer III at 128", coded("mp3", 128), "lossy", rest=("gain",)),
    one("Vorbis at 96", coded("vorbis", 96), "lossy"),
    one("another sound", other_sound, "unrelated"),
)

PAIRS = (
    one("late and softer", both(shifted(33), scaled(-3.0)), "delay", "gain"),
    one("late and upside down", both(shifted(8), scaled(0.0), lambda x, r: -x), "delay", "polarity"),
    one("softer and equalised", both(scaled(-2.0), peaking(1000.0, 4.0, 1.0)), "filter", rest=("gain",)),
    one("late and equalised", both(shifted(64), peaking(1000.0, 4.0, 1.0)), "delay", "filter"),
    one("late and saturated", both(shifted(21), saturated(1.5)), "delay", "non_linear"),
    one("saturated and equalised", both(saturated(1.5), peaking(800.0, 4.0, 1.0)), "non_linear", "filter"),
    one("equalised and saturated", both(peaking(800.0, 4.0, 1.0), saturated(1.5)), "non_linear", "filter"),
    one("equalised and noisy", both(peaking(800.0, 4.0, 1.0), noisy(-70.0)), "filter", "noise"),
    one("softer and noisy", both(scaled(-2.0), noisy(-65.0)), "gain", "noise"),
    one("upside down and cut", both(lambda x, r: -x, clipped(-4.0)), "polarity", "clipping"),
    one("late with a dropout", both(gapped, shifted(40)), "delay", "gap"),
    one("softer with clicks", both(scaled(-2.0), clicking), "gain", "click"),
    one("late and level-controlled", both(compressed, shifted(48)), "delay", "level_control", rest=("gain",)),
    one("softer in 16 bit", both(scaled(-2.0), rounded(16, dithered=True)), "gain", "quantisation"),
    one("offset and late", both(lambda x, r: x + 0.004, shifted(12)), "dc", "delay"),
    one("all at once", both(shifted(20), lambda x, r: -x, scaled(-2.0), peaking(900.0, 4.0, 1.0), saturated(1.2),
                             noisy(-70.0)), "delay", "polarity", "filter", "non_linear", "noise",
         rest=("gain",)),
)  # fmt: skip
