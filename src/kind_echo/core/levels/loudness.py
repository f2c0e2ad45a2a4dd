"""Loudness of programme: ITU-R BS.1770-5, EBU R 128, Tech 3341 and Tech 3342."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import PASS, Rows, Source, as_rows, blocks
from kind_echo.core.compiled.recursions import add_weighted_hops
from kind_echo.core.levels.meters import hop_edges
from kind_echo.core.registry.readings import Reading, silent

Floats = NDArray[np.float64]

MEASURES = ("loudness_integrated", "loudness_momentary_max", "loudness_short_max", "loudness_range")

DUAL_GAIN = 10 * math.log10(2)
"""LU that two equal speakers add to one channel."""

_HOP_SECONDS = 0.01  # s; gating looks every tenth of these, the greatest values at every one
_MOMENTARY_HOPS, _SHORT_TERM_HOPS, _GATING_HOPS = 40, 300, 10  # hops of 400 ms, 3 s, 100 ms
_OFFSET_LUFS = -0.691
_ABSOLUTE_GATE_LUFS, _RELATIVE_GATE_LU, _RANGE_GATE_LU = -70.0, -10.0, -20.0
_SURROUND_WEIGHT = 1.41
_WEIGHTS = {
    5: (1.0, 1.0, 1.0, _SURROUND_WEIGHT, _SURROUND_WEIGHT),  # L R C Ls Rs
    6: (1.0, 1.0, 1.0, 0.0, _SURROUND_WEIGHT, _SURROUND_WEIGHT),  # L R C LFE Ls Rs
}


def k_weighting(rate: int) -> Floats:
    """The two second-order sections of the K-weighting at a rate, rows of b0 b1 b2 a1 a2; shape (2, 5).

    The analogue prototypes behind the coefficients that BS.1770-5 tabulates for 48 kHz, through the bilinear
    transform with their corners prewarped, so that at 48 kHz the table comes out.
    """
    shelf = _shelf(math.tan(math.pi * 1681.974450955533 / rate), 3.999843853973347, 0.7071752369554196)
    high = _high_pass(math.tan(math.pi * 38.13547087602444 / rate), 0.5003270373238773)
    return np.array([shelf, high])


def _shelf(k: float, gain: float, q: float) -> list[float]:
    top = 10 ** (gain / 20)
    middle = top**0.4996667741545416
    a0 = 1 + k / q + k * k
    b = (top + middle * k / q + k * k, 2 * (k * k - top), top - middle * k / q + k * k)
    return [value / a0 for value in (*b, 2 * (k * k - 1), 1 - k / q + k * k)]


def _high_pass(k: float, q: float) -> list[float]:
    a0 = 1 + k / q + k * k
    return [1.0, -2.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0]


@dataclass(frozen=True)
class LoudnessCurves:
    """Loudness over time; LUFS at the end of each window, −inf for silence.

    Attributes:
        momentary_time, short_time: seconds.
    """

    momentary_time: Floats
    momentary: Floats
    short_time: Floats
    short: Floats


class LoudnessMeter:
    """Takes a file a block at a time; all samples must be finite.

    Args:
        mono_as_dual: a single channel counts as two equal speakers.
    """

    def __init__(self, channels: int, rate: int, frames: int, *, mono_as_dual: bool = False) -> None:
        self._rate, self._channels = rate, channels
        self._dual = mono_as_dual and channels == 1
        self._weights = np.array(_WEIGHTS.get(channels, (1.0,) * channels)) * (2.0 if self._dual else 1.0)
        self._taps = k_weighting(rate)
        self._state = np.zeros((channels, 4))
        self._edges = hop_edges(frames, rate, _HOP_SECONDS)
        self._energies = np.zeros((channels, len(self._edges)))
        self._hop = self._frames = 0

    def add(self, rows: Rows) -> None:
        """Take the next frames."""
        self._hop = add_weighted_hops(
            rows, self._frames, self._edges, self._hop, self._energies, self._taps, self._state
        )
        self._frames += rows.shape[1]

    def readings(self) -> list[Reading]:
        """The four loudness measures of all that was taken; one value for all channels together."""
        momentary, short = self._power(_MOMENTARY_HOPS), self._power(_SHORT_TERM_HOPS)
        brief = "the file is shorter than one block of 400 ms"
        if len(momentary) == 0:
            found = [Reading(key, "all", None, brief) for key in MEASURES]
        else:
            shorter = "the file is shorter than 3 s"
            found = [
                _loudness("loudness_integrated", _gated(momentary[::_GATING_HOPS])),
                _loudness("loudness_momentary_max", float(momentary.max())),
                _loudness("loudness_short_max", float(short.max()))
                if len(short)
                else Reading("loudness_short_max", "all", None, shorter),
                _range(short[::_GATING_HOPS]) if len(short) else Reading("loudness_range", "all", None, shorter),
            ]
        return [reading.noted(self._convention()) for reading in found]

    def ungated(self) -> float:
        """Mean weighted power of all that was taken, without gates; for a residual that is under them."""
        return float((self._energies.sum(axis=1) * self._weights).sum()) / max(1, self._frames)

    def curves(self) -> LoudnessCurves:
        """Momentary and short-term loudness every 100 ms."""
        momentary, short = self._power(_MOMENTARY_HOPS)[::_GATING_HOPS], self._power(_SHORT_TERM_HOPS)[::_GATING_HOPS]
        with np.errstate(divide="ignore"):
            return LoudnessCurves(
                np.asarray(
                    (np.arange(len(momentary)) * _GATING_HOPS + _MOMENTARY_HOPS) * _HOP_SECONDS, dtype=np.float64
                ),
                np.asarray(_OFFSET_LUFS + 10 * np.log10(momentary)),
                np.asarray((np.arange(len(short)) * _GATING_HOPS + _SHORT_TERM_HOPS) * _HOP_SECONDS, dtype=np.float64),
                np.asarray(_OFFSET_LUFS + 10 * np.log10(short)),
            )

    def _power(self, hops: int) -> Floats:
        """Mean weighted power of every window of so many hops."""
        whole = int(np.searchsorted(self._edges, self._frames, side="right"))
        if whole < hops:
            return np.zeros(0)
        power = self._weights @ self._energies[:, :whole]
        sums = np.concatenate([[0.0], np.cumsum(power)])
        ends = np.concatenate([[0], self._edges[:whole]])
        return np.asarray(np.maximum(0.0, (sums[hops:] - sums[:-hops]) / (ends[hops:] - ends[:-hops])))

    def _convention(self) -> str | None:
        notes = []
        if self._channels == 1:
            notes.append("one channel, as two equal speakers" if self._dual else "one channel, measured as one")
        elif self._channels not in (2, *_WEIGHTS):
            notes.append("all channels weighted alike")
        if self._rate < 16_000:
            notes.append("±0.3 LU at this rate")
        return "; ".join(notes) or None


def loudest_passage(source: Source) -> tuple[float, float, float] | None:
    """Start and end, in seconds, of the 3 s of greatest short-term loudness, and that loudness in LUFS.

    The whole file where it is shorter; None for silence.
    """
    meter = LoudnessMeter(source.channels, source.rate, source.frames)
    for _, block in blocks(source, size=PASS):
        meter.add(as_rows(block))
    power = meter._power(_SHORT_TERM_HOPS)
    if len(power) == 0:
        mean = meter.ungated()
        return (0.0, source.frames / source.rate, _OFFSET_LUFS + 10 * math.log10(mean)) if mean > 0 else None
    best = int(power.argmax())
    if power[best] <= 0.0:
        return None
    return (
        best * _HOP_SECONDS,
        (best + _SHORT_TERM_HOPS) * _HOP_SECONDS,
        _OFFSET_LUFS + 10 * math.log10(float(power[best])),
    )


def _loudness(key: str, power: float | None) -> Reading:
    if power is None:
        return Reading(key, "all", None, "nothing passes the gate of −70 LUFS", at_most=_ABSOLUTE_GATE_LUFS)
    if power <= 0.0:
        return silent(key, "all")
    return Reading(key, "all", _OFFSET_LUFS + 10 * math.log10(power))


def _threshold(loudness: float) -> float:
    return float(10 ** ((loudness - _OFFSET_LUFS) / 10))


def _gated(power: Floats) -> float | None:
    """Mean power of the blocks that pass both gates; BS.1770-5, equations 5 to 7."""
    audible = power[power > _threshold(_ABSOLUTE_GATE_LUFS)]
    if len(audible) == 0:
        return 0.0 if power.max() <= 0.0 else None
    passed = audible[audible > audible.mean() * 10 ** (_RELATIVE_GATE_LU / 10)]
    return float(passed.mean())


def _range(power: Floats) -> Reading:
    """Tech 3342: 10th to 95th percentile of short-term loudness over −70 LUFS and 20 LU under their mean."""
    audible = power[power >= _threshold(_ABSOLUTE_GATE_LUFS)]
    if len(audible) == 0:
        return Reading("loudness_range", "all", None, "nothing passes the gate of −70 LUFS")
    passed = audible[audible >= audible.mean() * 10 ** (_RANGE_GATE_LU / 10)]
    loudness = 10 * np.log10(passed)
    low, high = np.percentile(loudness, [10, 95])
    return Reading("loudness_range", "all", float(high - low))
