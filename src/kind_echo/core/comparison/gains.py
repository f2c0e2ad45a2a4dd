"""The gain of a render over its reference: at one delay, or with a drift taken off."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, Aligner, Alignment
from kind_echo.core.audio.source import Derived, Samples, Source
from kind_echo.core.audio.warping import WarpedSource
from kind_echo.core.causes.excerpts import take_excerpts
from kind_echo.core.comparison.coherent import CoherentPart, coherent_parts
from kind_echo.core.comparison.residual import Residual, residual_of
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.delays.drift import Drift
from kind_echo.core.registry.readings import Reading, refuse

_SMALL_FRACTION_SAMPLES = 0.002  # samples; what such a shift takes from the gain of white noise is under 0.0001 dB
_DB_PER_ERROR = 20.0 / math.log(10.0)  # twice the decibels of a standard error of the logarithm of a power
_KEYS = ("gain", "gain_in_phase")
_IN_PHASE_CORRELATION = 0.9  # squared correlation, under which a gain at zero phase is none (the design's)
_MUCH_LESS_VARIANCE = 4.0  # times the variance of the blocks alone, over which that of all samples is not worth having
_VAGUE_DB, _VAGUE_IN_PHASE_DB = 3.0, 1.0  # dB of uncertainty, over which a gain is none

Floats = NDArray[np.float64]


def fine_sums(reference: Source, lay: Aligner, delay: Delay, whole: Residual) -> tuple[Residual, float]:
    """The sums with the fraction of the delay off as well, and that fraction."""
    if delay.nearest is None:
        return whole, 0.0
    fraction = delay.nearest - round(delay.nearest)
    if delay.samples is not None and abs(fraction) <= _SMALL_FRACTION_SAMPLES:
        return whole, 0.0
    return residual_of(reference, lay.at(Alignment(round(delay.nearest), fraction))), fraction


@dataclass(frozen=True)
class ScaledChannels(Derived):
    """A source with each channel times a factor of its own."""

    factors: tuple[float, ...]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        return np.asarray(self.source.read(start, stop) * np.array(self.factors))


def upright_at_level(aligned: AlignedSource, sums: Residual, gain: float | None) -> tuple[AlignedSource, float]:
    """A render and the factor that brings it to its reference; each channel by itself where some alone are inverted."""
    own, cross = sums.sums[:, 0], sums.sums[:, 1]
    if gain is None or not (cross > 0.0).any() or not (cross < 0.0).any():
        return aligned, 1.0 / gain if gain else 1.0
    factors = tuple(float(x / y) if abs(y) > 1e-6 * x else 1.0 for x, y in zip(own, cross, strict=True))
    return replace(aligned, render=ScaledChannels(aligned.render, factors), advanced=None), 1.0


@dataclass(frozen=True)
class Gains:
    """The gain of a render over its reference.

    Attributes:
        factor: signed least-squares factor, by which the render is undone; None without a delay.
        level: ratio of the amplitudes, where the gain has a reading.
        sums: x², x·y and y² by channel, that it is told from.
        readings: of `gain` and `gain_in_phase`.
    """

    factor: float | None
    level: float | None
    sums: Floats
    readings: list[Reading]


def find_gains(reference: Source, render: Source, fine: tuple[Residual, float], delay: Delay) -> Gains:
    """The gain at a delay; of a periodic signal, at the least of those that it may have.

    Args:
        fine: sums with that delay off.
    """
    if delay.nearest is None:
        refused = refuse(_KEYS, reference.channels, delay.why or "no delay was found")
        return Gains(None, None, fine[0].sums, refused)
    sums = fine[0].sums
    own = float(sums[:, 0].sum())
    parts = coherent_parts(reference, render, delay.nearest, own / max(1, fine[0].frames))
    factor = float(sums[:, 1].sum()) / own if own > 0.0 and delay.samples is not None else None
    return _told(sums, fine[0].frames, parts, factor)


def _told(sums: Floats, frames: int, parts: list[CoherentPart] | None, factor: float | None) -> Gains:
    """The readings from sums of x², x·y and y² by channel."""
    channels = [
        _Channel(float(row[0]), float(row[1]), float(row[2]), frames, None if parts is None else parts[c])
        for c, row in enumerate(sums)
    ]
    named = [("all", channels), *((str(c + 1), [one]) for c, one in enumerate(channels))]
    readings = [told(name, some) for told in (_gain, _gain_in_phase) for name, some in named]
    level = None if readings[0].value is None else 10 ** (readings[0].value / 20)
    return Gains(factor, level, sums, readings)


@dataclass(frozen=True)
class _Channel:
    """Sums of x², x·y and y² over the overlap, and what blocks tell of the part that is coherent."""

    xx: float
    xy: float
    yy: float
    frames: int
    part: CoherentPart | None

    @property
    def in_phase(self) -> float:
        """Squared correlation at zero phase."""
        # Of two sides that are next to the same the sums round to a little over 1.
        return min(1.0, self.xy**2 / (self.xx * self.yy)) if self.xx > 0.0 and self.yy > 0.0 else 0.0

    @property
    def by_phase(self) -> float:
        """Variance of the logarithm of the squared least-squares gain."""
        if self.part is None or not math.isfinite(self.part.by_phase):
            return 4.0 * (1.0 - self.in_phase) / max(self.in_phase, 1e-12) / self.frames
        return self.part.by_phase_over(self.xx)

    @property
    def ratio(self) -> tuple[float, float]:
        """Of the coherent power over the reference's, and the variance of its logarithm."""
        least = (self.xy / self.xx) ** 2
        part = self.part
        if part is None:
            return least, self.by_phase
        # What noise does to the one it does to the other: all samples tell the gain in phase, blocks the rest. Where
        # little is in phase the blocks tell it better alone.
        if part.in_phase and self.by_phase + part.beyond <= _MUCH_LESS_VARIANCE * part.by_power:
            return least * part.power * part.own / part.in_phase**2, self.by_phase + part.beyond
        return (part.power / part.own if part.own > 0.0 else 0.0), part.by_power


def _gain(name: str, channels: Sequence[_Channel]) -> Reading:
    """The gain over some channels, by the power of their coherent parts."""
    if (why := _silence(channels)) is not None:
        return Reading("gain", name, None, why)
    sounding = [(one.xx, *one.ratio) for one in channels if one.xx > 0.0]
    power = sum(xx * max(ratio, 0.0) for xx, ratio, _ in sounding)
    if power <= 0.0:
        return Reading("gain", name, None, "nothing correlates")
    # A channel of which nothing follows adds nothing to the power, and has no variance of its own.
    variance = sum((xx * ratio / power) ** 2 * spread for xx, ratio, spread in sounding if ratio > 0.0)
    spread = _DB_PER_ERROR * math.sqrt(variance)
    if spread > _VAGUE_DB:
        return Reading("gain", name, None, f"noise hides it: the uncertainty is over {_VAGUE_DB:.0f} dB")
    return Reading("gain", name, 10.0 * math.log10(power / sum(xx for xx, _, _ in sounding)), None, spread)


def _gain_in_phase(name: str, channels: Sequence[_Channel]) -> Reading:
    """The least-squares gain over some channels, where most of the render is the reference at zero phase."""
    if (why := _silence(channels)) is not None:
        return Reading("gain_in_phase", name, None, why)
    xx, xy, yy = (sum(getattr(one, key) for one in channels) for key in ("xx", "xy", "yy"))
    share = xy**2 / (xx * yy)
    if share < _IN_PHASE_CORRELATION:
        why = f"the squared correlation at zero phase is {share:.2f}, under {_IN_PHASE_CORRELATION:.1f}"
        return Reading("gain_in_phase", name, None, why)
    spread = _DB_PER_ERROR * math.sqrt(sum((one.xy / xy) ** 2 * one.by_phase for one in channels if one.xy))
    if spread > _VAGUE_IN_PHASE_DB:
        return Reading("gain_in_phase", name, None, f"the uncertainty is over {_VAGUE_IN_PHASE_DB:.0f} dB")
    return Reading("gain_in_phase", name, 20.0 * math.log10(abs(xy / xx)), None, spread)


def _silence(channels: Sequence[_Channel]) -> str | None:
    """Why there is no gain over some channels, where one side is silent."""
    silent = not sum(one.xx for one in channels) > 0.0 or not sum(one.yy for one in channels) > 0.0
    return "one side is silent" if silent else None


def gains_under_drift(reference: Source, render: Source, drift: Drift) -> Gains:
    """The gain where a render is lined up all along: told from stretches with the drift off."""
    assert drift.middle is not None
    assert drift.reading.value is not None
    warped = WarpedSource(render, drift.middle, drift.reading.value, reference.frames)
    excerpts = take_excerpts(reference, AlignedSource(warped, reference.frames, Alignment()), 0)
    if not excerpts:
        nothing = np.zeros((reference.channels, 3))
        return Gains(None, None, nothing, refuse(_KEYS, reference.channels, "one side is silent"))
    sums = np.array(
        [[float((e.inner**2).sum()), float((e.inner * e.y).sum()), float((e.y**2).sum())] for e in excerpts]
    )
    own = float(sums[:, 0].sum())
    factor = float(sums[:, 1].sum()) / own if own > 0.0 else None
    frames = excerpts[0].y.size
    found = _told(sums, frames, coherent_parts(reference, warped, 0.0, own / frames), factor or None)
    note = "with the drift taken off"
    return replace(found, readings=[one.noted(note) if one.channel == "all" else one for one in found.readings])
