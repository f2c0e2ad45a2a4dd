"""The gain of a render over its reference: at one delay, or with a drift taken off."""

import math
from dataclasses import dataclass, replace

import numpy as np

from kind_echo.core.audio.align import AlignedSource, Aligner, Alignment
from kind_echo.core.audio.source import Derived, Samples, Source
from kind_echo.core.audio.warping import WarpedSource
from kind_echo.core.causes.excerpts import take_excerpts
from kind_echo.core.comparison.residual import Residual, residual_of
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.delays.drift import Drift
from kind_echo.core.registry.readings import Reading, for_channels, refuse

_SMALL_FRACTION = 0.002  # samples; what such a shift takes from the gain of white noise is under 0.0001 dB
_DB = 20.0 / math.log(10.0)


def fine_sums(reference: Source, lay: Aligner, delay: Delay, whole: Residual) -> tuple[Residual, float]:
    """The sums with the fraction of the delay off as well, and that fraction."""
    if delay.samples is None:
        return whole, 0.0
    fraction = delay.samples - round(delay.samples)
    if abs(fraction) <= _SMALL_FRACTION:
        return whole, 0.0
    return residual_of(reference, lay.at(Alignment(round(delay.samples), fraction))), fraction


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


def gain_readings(fine: tuple[Residual, float], delay: Delay, channels: int) -> tuple[float | None, list[Reading]]:
    """Signed least-squares factor of the render over the reference (None without a delay), and the gain in dB."""
    if delay.samples is None:
        return None, refuse(("gain",), channels, delay.why or "no delay was found")
    sums, frames = fine[0].sums, fine[0].frames
    xx, xy, yy = sums[:, 0], sums[:, 1], sums[:, 2]
    readings = [_gain("all", xx.sum(), xy.sum(), yy.sum(), frames * channels)]
    readings += [_gain(str(c + 1), xx[c], xy[c], yy[c], frames) for c in range(channels)]
    return (float(xy.sum() / xx.sum()) if xx.sum() > 0 else None), readings


def _gain(channel: str, xx: float, xy: float, yy: float, count: int) -> Reading:
    if xx <= 0.0 or yy <= 0.0 or xy == 0.0:
        return Reading("gain", channel, None, "one side is silent" if xx <= 0.0 or yy <= 0.0 else "nothing correlates")
    unrelated = max(0.0, 1.0 - float(xy) ** 2 / float(xx * yy))
    spread = math.sqrt(unrelated / max(1.0 - unrelated, 1e-12) / count)
    return Reading("gain", channel, 20.0 * math.log10(abs(float(xy / xx))), None, 2.0 * _DB * spread)


def gain_under_drift(reference: Source, render: Source, drift: Drift) -> tuple[float | None, list[Reading]]:
    """The gain where a render is lined up all along: told from stretches with the drift off."""
    assert drift.middle is not None
    assert drift.reading.value is not None
    warped = WarpedSource(render, drift.middle, drift.reading.value, reference.frames)
    excerpts = take_excerpts(reference, AlignedSource(warped, reference.frames, Alignment()), 0)
    sums = np.array(
        [[float((e.inner**2).sum()), float((e.inner * e.y).sum()), float((e.y**2).sum())] for e in excerpts]
    )
    whole = [sums.sum(axis=0), *sums] if len(sums) else []
    factors = [xy / xx if xx > 0.0 and xy != 0.0 else None for xx, xy, _ in whole] or [None] * (1 + reference.channels)
    values = [None if f is None else 20 * math.log10(abs(f)) for f in factors]
    readings = for_channels("gain", values[1:], values[0], "one side is silent")
    frames = sum(e.y.size for e in excerpts) / max(1, len(excerpts))
    spreads = [_DB * 2 * math.sqrt(max(0.0, yy * xx / xy**2 - 1.0) / max(1.0, frames / 50)) if xy else None
               for xx, xy, yy in whole] or [None] * len(readings)  # fmt: skip
    told = [replace(one, uncertainty=spread) if one.value is not None else one
            for one, spread in zip(readings, spreads, strict=True)]  # fmt: skip
    return factors[0], [one.noted("with the drift taken off") if one.channel == "all" else one for one in told]
