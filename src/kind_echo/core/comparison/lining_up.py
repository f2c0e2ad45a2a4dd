"""How a render lies to its reference: delay, drift and gain, and the sums of both where the delay is taken off."""

from concurrent.futures import Executor, Future
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, Aligner, Alignment, rows_of_pair
from kind_echo.core.audio.source import MonoSource, Source
from kind_echo.core.causes.thresholds import NAMING
from kind_echo.core.comparison.gains import Gains, find_gains, fine_sums, gains_under_drift, upright_at_level
from kind_echo.core.comparison.pair import CompareOptions
from kind_echo.core.comparison.residual import Residual, residual_meter
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.delays.drift import Drift, find_drift
from kind_echo.core.levels.integrity import Gap, GapFinder, find_clicks
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reading

Floats = NDArray[np.float64]
Delays = tuple[Delay, list[Delay]]
"""The delay of all channels, and of each."""


@dataclass(frozen=True)
class Sides:
    """Both sides of a pair, the render as it is laid over the reference, and the threads that work on them."""

    reference: Source
    render: Source
    lay: Aligner
    pool: Executor


@dataclass(frozen=True)
class Delayed:
    """By how much a render is late.

    Attributes:
        delay: of all channels; of their sum where they stand in each other's place.
        common: of all channels, each held against the same of the other side; none where only the sum has one.
        each: of each channel.
        shift: whole samples of it, 0 where there is none.
        drift: how it changes, begun.
    """

    delay: Delay
    common: Delay
    each: list[Delay]
    shift: int
    drift: Future[Drift]

    def late(self) -> list[float]:
        """Samples by which each channel is late; that of all for one that has no delay of its own."""
        return [own.samples if own.samples is not None else float(self.shift) for own in self.each]


@dataclass(frozen=True)
class LinedUp:
    """A render that lies over its reference.

    Attributes:
        shift: whole samples of delay that are taken off.
        whole: the sums of both and of their difference, with these off.
        fine, fraction: the sums with the fraction of the delay off as well, and that fraction.
        gaps: of the render, on the reference's time axis.
        cross: each channel of the reference times each of the render, added up.
        gains: the gain by level and at zero phase, with their readings.
        gain: signed factor of the render over the reference; None where it is not known.
        moved: drift in ppm; 0 where it is no more than its uncertainty.
        middle: the delay in the middle of the reference; None where it is not known.
        upright, scale: the render turned as the reference is, and what brings it to its level.
        steps: where their difference steps, begun; frames by channel.
    """

    shift: int
    whole: Residual
    fine: Residual
    fraction: float
    gaps: list[Gap]
    cross: Floats
    gains: Gains
    gain: float | None
    moved: float
    middle: float | None
    upright: AlignedSource
    scale: float
    steps: Future[list[list[int]]]


def begin_delays(sides: Sides, options: CompareOptions) -> Future[Delays]:
    """Begun before it is known whether all samples are finite; where they are not, nobody looks at what comes of it."""

    def found() -> Delays:
        with np.errstate(all="ignore"):
            return find_delays(sides.reference, sides.render, options.max_delay, sides.pool.map)

    return sides.pool.submit(found)


def choose_delay(sides: Sides, found: Delays, options: CompareOptions) -> Delayed:
    """The delay that is taken off, of what was found channel by channel."""
    reference, render, pool = sides.reference, sides.render, sides.pool
    common, each = found
    drift = pool.submit(find_drift, reference, render, common.samples, common.why, pool.map)
    # Channels that stand in each other's place have no delay of their own, but their sum has.
    delay = common if common.samples is not None else _of_the_sum(reference, render, options, common)
    if delay.samples is not None:
        return Delayed(delay, common, each, round(delay.samples), drift)
    if delay.reason != "periodic":  # a line through delays that are known up to whole periods is none
        delay, each = _drifting(delay, each, drift.result().reading, reference.frames)
    return Delayed(delay, delay, each, 0, drift)


def line_up(sides: Sides, delayed: Delayed, ceiling: float | None) -> LinedUp:
    """Lay a render over its reference by the delay that was found.

    Args:
        ceiling: dBFS of the reference under which changed samples are counted apart; None for not at all.
    """
    reference, render, pool, common = sides.reference, sides.render, sides.pool, delayed.common
    aligned = sides.lay.at(Alignment(delayed.shift))
    whole, gaps, cross = _walk(reference, aligned, ceiling)
    fine, fraction = fine_sums(reference, sides.lay, common, whole)
    gains = find_gains(reference, render, (fine, fraction), common)
    gain, middle = gains.factor, delayed.delay.samples
    upright, scale = upright_at_level(aligned, fine, gain)
    steps = pool.submit(find_clicks, reference, upright, scale)
    drift = delayed.drift.result()
    moved = 0.0 if delayed.delay.reason == "periodic" else _drift_of(drift, reference.frames)
    if moved:
        middle = drift.middle
    if moved and drift.middle is not None:
        under_drift = gains_under_drift(reference, render, drift)
        gain = under_drift.factor
        # Where the drift leaves no delay there is no gain at a delay either; the factor is needed all the same.
        gains = replace(gains, sums=under_drift.sums) if common.samples is None else under_drift
        upright, scale = aligned, 1.0 / gain if gain else 1.0
        steps = pool.submit(find_clicks, reference, upright, scale)
    return LinedUp(
        delayed.shift, whole, fine, fraction, gaps, cross, gains, gain, moved, middle, upright, scale, steps
    )  # fmt: skip


def _walk(reference: Source, aligned: AlignedSource, ceiling: float | None) -> tuple[Residual, list[Gap], Floats]:
    """One walk over the overlap: what is left, the gaps, and each channel of the reference times each of the render."""
    channels = reference.channels
    residual, gaps = residual_meter(reference, aligned, ceiling), GapFinder(channels, reference.rate)
    cross = np.zeros((channels, channels))
    for start, x, y in rows_of_pair(reference, aligned):
        residual.add(start, x, y)
        gaps.add(start, x, y)
        if channels > 1:
            cross += x @ y.T
    return residual.residual(), gaps.gaps(), cross


def _drift_of(drift: Drift, frames: int) -> float:
    """A drift in ppm that is more than its uncertainty, and that comes to something over the file; else 0."""
    value, spread = drift.reading.value, drift.reading.uncertainty or 0.0
    if value is None or abs(value) * 1e-6 * frames < NAMING.drift_samples:
        return 0.0
    return value if abs(value) > max(1.5 * spread, 0.05) else 0.0


def _of_the_sum(reference: Source, render: Source, options: CompareOptions, none: Delay) -> Delay:
    """The delay of all channels added up, where none was found channel by channel; else that none."""
    if reference.channels == 1:
        return none
    found, _ = find_delays(MonoSource(reference), MonoSource(render), options.max_delay)
    return found if found.samples is not None else none


def _drifting(delay: Delay, each: list[Delay], drift: Reading, frames: int) -> tuple[Delay, list[Delay]]:
    """Delays that could not be had; where they change over the file, for that reason."""
    if drift.value is None or abs(drift.value) * 1e-6 * frames < 1.0:
        return delay, each
    why = f"the delay changes over the file, by {number(drift.value, '+.1f')} ppm"
    none = Delay(None, why=why, reason="drifts")
    return none, [none if one.samples is None else one for one in each]
