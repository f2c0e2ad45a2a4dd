"""Towpath, a simulated compressor with six characters."""

import numpy as np
import scipy

from kind_echo.core.audio.source import Samples
from kind_echo.standins._loops import average, smooth
from kind_echo.standins.effects import Build, Parameter, Place, StandIn, linear
from kind_echo.standins.faults import Level, Slower

_HOLD = 0.010  # s over which the greatest sample counts as the level: half a period of 50 Hz
_AVERAGE = 0.005  # s, of the character that looks at power instead of peaks
_ENDURE = 0.030  # s that the character for steady sounds waits
_NOISE = -84.0  # dBFS
_SILENCE = 1e-10


class Towpath:
    """The compressor: channels linked, gain fed forward, smoothed in decibels; no latency.

    Characters: "plain" follows the arithmetic; "copper" adds a third harmonic; "heron" looks at power over 5 ms, so
    that short peaks pass; "anvil" lets nothing over the threshold; "kettle" has a noise floor; "drowse" acts only on
    what has stood over the threshold for 30 ms.
    """

    claimed_latency = 0

    def __init__(self, place: Place, once_a_block: bool = False) -> None:
        v = place.values
        self._threshold, self._ratio, self._knee = float(v["threshold"]), float(v["ratio"]), float(v["knee"])
        self._character = str(v["character"])
        self._makeup = float(v["make-up"])
        if v["automatic make-up"] == "on":
            self._makeup -= 0.5 * float(self._static(np.zeros(1))[0])
        rate = place.rate
        self._attack = _coefficient(float(v["attack"]) / 1000, rate)
        self._release = _coefficient(float(v["release"]) / 1000, rate)
        self._once_a_block = once_a_block
        self._hold, self._endure = round(_HOLD * rate), round(_ENDURE * rate)
        self._peaks, self._held = np.zeros(self._hold - 1), np.zeros(self._endure - 1)
        self._mean = _coefficient(_AVERAGE, rate)
        self._state = np.zeros(2)  # smoothed gain in dB, mean power
        self._noise = np.random.default_rng(11)

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        target = self._static(20.0 * np.log10(np.maximum(self._level(block), _SILENCE)))
        if self._once_a_block and len(target):
            target = np.full_like(target, target[-1])
        smoothed = smooth(target, self._attack, self._release, self._state)
        out = block * 10.0 ** ((smoothed + self._makeup) / 20.0)[:, None]
        if self._character == "copper":
            return np.asarray(out - 0.05 * out**3)
        if self._character == "anvil":
            ceiling = linear(self._threshold + self._makeup)
            return np.asarray(np.clip(out, -ceiling, ceiling))
        if self._character == "kettle":
            return np.asarray(out + linear(_NOISE) / np.sqrt(2.0) * self._noise.standard_normal(block.shape))
        return np.asarray(out)

    def _level(self, block: Samples) -> Samples:
        """Level by frame, as the peak of a sine that would read so."""
        if self._character == "heron":
            power = 2.0 * np.max(block**2, axis=1)
            return np.asarray(np.sqrt(average(power, self._mean, self._state)))
        held, self._peaks = _greatest(np.max(np.abs(block), axis=1), self._peaks, self._hold)
        if self._character != "drowse":
            return held
        least, self._held = _greatest(-held, self._held, self._endure)
        return -least

    def _static(self, level: Samples) -> Samples:
        """Gain in dB at a level in dBFS: none under the knee, the ratio's above it, a parabola between.

        Source: D. Giannoulis, M. Massberg, J. D. Reiss, Digital dynamic range compressor design, J. Audio Eng. Soc. 60
        (2012).
        """
        over, knee = level - self._threshold, self._knee
        slope = -1.0 if self._character == "anvil" else 1.0 / self._ratio - 1.0
        gain = np.where(over > 0.0, slope * over, 0.0)
        if knee > 0.0:
            gain = np.where(np.abs(over) < knee / 2, slope * (over + knee / 2) ** 2 / (2 * knee), gain)
        return np.asarray(gain)


def _coefficient(seconds: float, rate: int) -> float:
    """Of a first-order low-pass that has gone 1 − 1/e of the way after a time."""
    return 1.0 if seconds <= 0.0 else float(-np.expm1(-1.0 / (seconds * rate)))


def _greatest(values: Samples, history: Samples, length: int) -> tuple[Samples, Samples]:
    """Greatest of the last `length` values at each, and the history that the next block needs."""
    extended = np.concatenate([history, values])
    found = scipy.ndimage.maximum_filter1d(extended, length, origin=(length - 1) // 2, mode="nearest")
    return found[len(history) :], extended[len(values) :]


TOWPATH = StandIn(
    "Towpath",
    "A compressor with six characters.",
    (
        Parameter("threshold", -20.0, "dBFS", -60.0, 0.0),
        Parameter("ratio", 4.0, ":1", 1.0, 20.0),
        Parameter("knee", 0.0, "dB", 0.0, 24.0),
        Parameter("attack", 5.0, "ms", 0.0, 200.0),
        Parameter("release", 80.0, "ms", 1.0, 2000.0),
        Parameter("make-up", 0.0, "dB", -12.0, 24.0),
        Parameter("automatic make-up", "off", choices=("off", "on")),
        Parameter("character", "plain", choices=("plain", "copper", "heron", "anvil", "kettle", "drowse")),
    ),
    (
        Build("1.4.0", "The release that is in the shops."),
        Build("1.5.0-b1", "First beta: the detector costs less.", departs={"once_a_block": True}),
        Build("1.5.0-b2", "Second beta: the detector is as it was.", (Level(-0.2), Slower(4))),
    ),
    Towpath,
)
