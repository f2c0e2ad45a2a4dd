"""Levels of a file: sample and true peak, RMS in both conventions, windowed RMS, needle level, crest factor, DC."""

import math
from dataclasses import dataclass

import numpy as np
from numpy import fft
from numpy.typing import NDArray

from kind_echo.core.audio.source import Rows
from kind_echo.core.audio.transforms import hann, kaiser_sinc
from kind_echo.core.compiled.loops import UNKNOWN, add_hops, interpolate
from kind_echo.core.compiled.recursions import needle
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading, for_channels, level

Floats = NDArray[np.float64]

TAPS = 32
"""Taps of the interpolation to four times the rate: flat to 0.02 dB up to 0.45 of the rate."""

_WINDOW_HOPS = 8  # of one RMS window
_KAISER_BETA = 4.6  # 50 dB of image rejection beyond 0.55 of the rate
_FLAT_TO_SHARE = 0.45  # of the rate
_AROUND_FRAMES = 512  # frames around a peak, whose spectrum is looked at
_MISSED_POWER_SHARE = 1.4e-4  # of their power beyond the flat band, whose amplitude is 0.1 dB of the peak's
_OVERSHOOT = 0.0125
_NEEDLE_SECONDS = 0.3
_STEADY_FACTOR = 10 ** (0.5 / 20)  # between the parts of a sound that is as loud throughout


@dataclass(frozen=True)
class LevelOptions:
    """How windowed levels are taken.

    Attributes:
        window: seconds of the sliding RMS; its hop is an eighth of it.
        gate: dBFS (AES17) under which a window counts as silence.
        zero_vu: dBFS of a sine that stands at 0 VU.
    """

    window: float = 0.3
    gate: float = -70.0
    zero_vu: float = -18.0


def hop_edges(frames: int, rate: int, seconds: float) -> NDArray[np.int64]:
    """End frame of every hop of `seconds`, the last of which is left open beyond the file."""
    count = int(frames / (rate * seconds)) + 2
    return np.asarray(np.rint(np.arange(1, count + 1) * seconds * rate), dtype=np.int64)


class LevelMeter:
    """Takes a file a block at a time; all samples must be finite."""

    def __init__(self, channels: int, rate: int, frames: int, options: LevelOptions = LevelOptions()) -> None:
        self.rate, self.options = rate, options
        self.frames = 0
        self.peak = np.zeros(channels)
        self.energy = np.zeros(channels)
        self.total = np.zeros(channels)
        self._edges = hop_edges(frames, rate, options.window / _WINDOW_HOPS)
        self._hops = np.zeros((channels, len(self._edges)))
        self._hop = 0

    def add(self, rows: Rows) -> None:
        """Take the next frames, whose peak, energy and total are added by the caller."""
        self._hop = add_hops(rows, self.frames, self._edges, self._hop, self._hops)
        self.frames += rows.shape[1]

    def readings(self) -> list[Reading]:
        """All levels but true peak and needle, of all that was taken; at least one frame."""
        channels = len(self.peak)
        power = self.energy / self.frames
        overall = float(power.mean())
        peaks = _levels("sample_peak", float(self.peak.max()), self.peak, power=False)
        rms = _levels("rms", 2 * overall, 2 * power, power=True)
        raw = _levels("rms_raw", overall, power, power=True)
        crest = [_crest(peak, mean) for peak, mean in zip(peaks, raw, strict=True)]
        means = [float(m) for m in self.total / self.frames]
        offsets = for_channels("dc_offset", means, max(means, key=abs))
        return peaks + rms + raw + crest + offsets + self._windowed(channels)

    def _windowed(self, channels: int) -> list[Reading]:
        whole = int(np.searchsorted(self._edges, self.frames, side="right"))
        keys = ("rms_window_max", "rms_window_min", "rms_window_range")
        if whole < _WINDOW_HOPS:
            why = f"the file is shorter than one window of {self.options.window * 1000:g} ms"
            return [r for key in keys for r in for_channels(key, [None] * channels, None, why)]
        sums = np.cumsum(np.concatenate([np.zeros((1, channels)), self._hops[:, :whole].T]), axis=0)
        ends = np.concatenate([[0], self._edges[:whole]])
        lengths = (ends[_WINDOW_HOPS:] - ends[:-_WINDOW_HOPS])[:, None]
        power = np.maximum(0.0, 2 * (sums[_WINDOW_HOPS:] - sums[:-_WINDOW_HOPS]) / lengths)
        audible = power > 10 ** (self.options.gate / 10)
        gated = int((~audible).all(axis=1).sum())
        note = f"{gated} of {len(power)} windows under {number(self.options.gate)} dBFS left out"
        highest = [float(power[:, c].max()) for c in range(channels)]
        lowest = [float(power[audible[:, c], c].min()) if audible[:, c].any() else 0.0 for c in range(channels)]
        greatest = _levels("rms_window_max", max(highest), np.array(highest), power=True)
        found = [low for low in lowest if low > 0.0]
        least = _levels("rms_window_min", min(found, default=0.0), np.array(lowest), power=True)
        silent = "every window is under the silence gate"
        least = [r.noted(note) if r.value is not None else Reading(r.measure, r.channel, None, silent) for r in least]
        ranges = [
            Reading("rms_window_range", high.channel, high.value - low.value, note)
            if high.value is not None and low.value is not None
            else Reading("rms_window_range", high.channel, None, silent)
            for high, low in zip(greatest, least, strict=True)
        ]
        return greatest + least + ranges


class PeakMeter:
    """True peak and needle level, from the signal at four times its rate.

    Where the interpolation would reach beyond either end of the file, samples are taken as they are: what lies
    outside is not known, and zeros there would invent an edge.

    Source: ITU-R BS.1770-5 Annex 2; IEC 60268-17 for the needle.
    """

    def __init__(self, channels: int, rate: int, options: LevelOptions = LevelOptions()) -> None:
        self._options = options
        self._peak = np.zeros(channels)
        self._needle = np.zeros(channels)
        self._beyond = np.zeros(channels, bool)  # whether the peak holds energy beyond the flat band
        self._state = np.zeros((channels, 2))
        self._tail = np.zeros((channels, 0), np.float32)
        self._edge = np.full((channels, 2), UNKNOWN, np.float32)
        self._phases = np.array([kaiser_sinc(TAPS, 0.5, p / 4, _KAISER_BETA) for p in (1, 2, 3)], np.float32)
        self._a, self._b = needle_response(rate)
        self._first: int | None = round(_NEEDLE_SECONDS / 3 * rate)

    def add(self, rows: Rows) -> None:
        """Take the next frames."""
        joined = np.concatenate([self._tail, rows.astype(np.float32)], axis=1)  # 24 bits do for a peak
        self._tail = joined[:, max(0, joined.shape[1] - TAPS + 1) :]
        ends = np.abs(np.concatenate([joined[:, :TAPS], joined[:, -TAPS:]], axis=1)).max(axis=1, initial=0.0)
        before, self._peak = self._peak, np.maximum(self._peak, ends)
        frames = joined.shape[1] - TAPS + 1
        if frames < 1:
            return
        mean = np.empty((len(joined), frames), np.float32)
        for c, padded in enumerate(joined):
            self._peak[c] = interpolate(padded, self._phases, self._peak[c], mean[c], self._edge[c])
            if self._peak[c] > before[c]:
                self._beyond[c] = _is_beyond(padded)
        if self._first is not None:
            self._state[:, 0] = _steady_from_the_start(mean, self._first)
            self._first = None
        needle(mean, self._a, self._b, self._state, self._needle)

    def take(self) -> tuple[Floats, Floats]:
        """Greatest true peak and deflection of each channel, as factors of full scale, since this was last called."""
        taken = self._peak, self._needle
        self._peak, self._needle = np.zeros_like(self._peak), np.zeros_like(self._needle)
        return taken

    def readings(self) -> list[Reading]:
        """true_peak and vu_max."""
        beyond = [bool(self._beyond[self._peak.argmax()]), *self._beyond.tolist()]
        peaks = [
            peak.noted(_MORE if more and peak.value is not None else None)
            for peak, more in zip(_levels("true_peak", float(self._peak.max()), self._peak, power=False), beyond,
                                  strict=True)
        ]  # fmt: skip
        scale = needle_factor(self._options)
        note = f"0 VU is a sine of {number(self._options.zero_vu)} dBFS"
        needles = _levels("vu_max", float(self._needle.max()) * scale, self._needle * scale, power=False)
        heard = {"all": float(self._peak.max()), **{str(c + 1): float(p) for c, p in enumerate(self._peak)}}
        vu = [
            Reading("vu_max", n.channel, None, "the file is too short for the needle to move")
            if n.value is None and heard[n.channel] > 0.0
            else n
            for n in needles
        ]
        return peaks + [n.noted(note) for n in vu]


def _steady_from_the_start(rectified: NDArray[np.float32], part: int) -> Floats:
    """Where the needles stand when a file begins: on a sound that is steady from the start, else at rest.

    A tone that is cut out of a longer one would else read by the overshoot too much.

    Args:
        part: frames of each of the three parts that must be as loud as each other, rise time over three.
    """
    if rectified.shape[1] < 3 * part:
        return np.zeros(len(rectified))
    parts = rectified[:, : 3 * part].reshape(len(rectified), 3, part).mean(axis=2, dtype=np.float64)
    steady = parts.max(axis=1) <= _STEADY_FACTOR * parts.min(axis=1)
    return np.where(steady, parts.mean(axis=1), 0.0)


_MORE = f"energy over {_FLAT_TO_SHARE} of the rate at the peak, which may be higher by more than 0.1 dB"


def _is_beyond(samples: NDArray[np.float32]) -> bool:
    """Whether what is around the greatest sample holds energy beyond the band over which the interpolation is flat."""
    top = int(np.abs(samples).argmax())
    around = samples[max(0, top - _AROUND_FRAMES // 2) : top + _AROUND_FRAMES // 2].astype(np.float64)
    power = np.square(np.abs(fft.rfft(around * hann(len(around)))))
    return float(power[math.ceil(_FLAT_TO_SHARE * len(around)) :].sum()) > _MISSED_POWER_SHARE * float(power.sum())


def needle_factor(options: LevelOptions) -> float:
    """From the mean of a rectified signal to the needle: 1, which is 0 VU, for a sine of that level."""
    return math.pi / 2 * 10 ** (-options.zero_vu / 20)


def needle_response(rate: int) -> tuple[Floats, Floats]:
    """State and input matrices of the needle at a rate, input held between samples.

    Second order, 1.25 % overshoot, 99 % after 300 ms. Source: IEC 60268-17.
    """
    logarithm = -math.log(_OVERSHOOT)
    damping = logarithm / math.hypot(math.pi, logarithm)
    omega = _needle_speed(damping) / _NEEDLE_SECONDS
    # exp(At) of the damped oscillator in closed form.
    t, sigma, swing = 1.0 / rate, damping * omega, omega * math.sqrt(1 - damping**2)
    decay, cosine, sine = math.exp(-sigma * t), math.cos(swing * t), math.sin(swing * t) / swing
    a = decay * np.array([[cosine + sigma * sine, sine], [-(omega**2) * sine, cosine - sigma * sine]])
    b = np.array([1.0 - a[0, 0], -a[1, 0]])
    return a, b


def _needle_speed(damping: float) -> float:
    """Angular frequency, in radians per rise time, at which the step response first reaches 99 %."""
    swing = math.sqrt(1 - damping**2)

    def reached(omega: float) -> float:
        turn = swing * omega
        return 1 - math.exp(-damping * omega) * (math.cos(turn) + damping / swing * math.sin(turn))

    low, high = 0.1, 20.0
    while reached(high) < 0.99 or high > math.pi / swing:
        high *= 0.9  # before the overshoot's summit the response only rises
    for _ in range(80):
        middle = (low + high) / 2
        low, high = (middle, high) if reached(middle) < 0.99 else (low, middle)
    return high


def _levels(key: str, overall: float, each: Floats, *, power: bool) -> list[Reading]:
    readings = [level(key, "all", overall, power=power)]
    return readings + [level(key, str(c + 1), float(value), power=power) for c, value in enumerate(each)]


def _crest(peak: Reading, raw: Reading) -> Reading:
    if peak.value is None or raw.value is None:
        return Reading("crest_factor", peak.channel, None, peak.why)
    return Reading("crest_factor", peak.channel, peak.value - raw.value)
