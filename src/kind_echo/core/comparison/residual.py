"""What a null test leaves: sums over the overlap, level and loudness of the residual, and which samples changed."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import AlignedSource, rows_of_pair
from kind_echo.core.audio.source import Rows, Source
from kind_echo.core.compiled.loops import changed_regions, pair_sums
from kind_echo.core.levels.loudness import LoudnessMeter
from kind_echo.core.registry.readings import NULL, Curve, Reading, for_channels, level, null

Floats = NDArray[np.float64]

MEASURES = (
    "residual_peak", "residual_rms", "null_depth", "residual_loudness",
    "changed_samples", "changed_share", "changed_regions", "longest_change",
)  # fmt: skip

_REGION_SECONDS = 0.001
_MOST_STRETCHES = 1000


@dataclass(frozen=True)
class Residual:
    """What is left over the overlap.

    Attributes:
        sums: by channel: x², x·y, y² and (y − x)².
        peaks: of y − x, by channel.
        changed, below: samples that changed, and that changed under the ceiling, by channel.
        differ: samples that are not equal.
        any_changed: frames that changed in any channel.
        regions, longest: stretches of changed frames, and frames of the longest.
        loudness: of y − x.
        any_below: frames of `any_changed` at which x is under the ceiling in every channel that changed.
        stretches: first frame and length of the longest regions, in order of time.
    """

    frames: int
    sums: Floats
    peaks: Floats
    changed: Floats
    below: Floats
    differ: int
    any_changed: int
    regions: int
    longest: int
    loudness: Reading
    any_below: int = 0
    stretches: tuple[tuple[int, int], ...] = ()


class ResidualMeter:
    """Takes a pair that is lined up a block at a time.

    Args:
        step: by how much a changed sample differs at least.
        ceiling: in dBFS of the reference, for counting changes under it.
    """

    def __init__(self, channels: int, rate: int, frames: int, step: float, ceiling: float | None = None) -> None:
        self._sums, self._peaks = np.zeros((channels, 4)), np.zeros(channels)
        self._counts = np.zeros((channels, 3), dtype=np.int64)
        self._state = np.array([0, 0, 0, -1, -1], dtype=np.int64)
        self._step = step
        self._under = 10 ** (ceiling / 20) if ceiling is not None else 0.0
        self._gap = max(1, round(_REGION_SECONDS * rate))
        self._room = np.empty(0, np.uint8)
        self._frames = 0
        self._any_below = 0
        self._stretches: list[tuple[int, int]] = []
        self._loudness = LoudnessMeter(channels, rate, frames)

    def add(self, start: int, x: Rows, y: Rows) -> None:
        """Take the next frames of reference and render; `start` is the first of them."""
        if len(self._room) < x.shape[1]:
            self._room = np.empty(x.shape[1], np.uint8)
        pair_sums(x, y, self._step, self._under, self._sums, self._peaks, self._counts)
        changed_regions(x, y, self._step, start, self._gap, self._room, self._state)
        self._keep_stretches(start, np.flatnonzero(self._room[: x.shape[1]]))
        if self._under > 0.0:
            changed = np.abs(y - x) > self._step
            self._any_below += int((changed.any(axis=0) & (~changed | (np.abs(x) < self._under)).all(axis=0)).sum())
        self._loudness.add(y - x)
        self._frames += x.shape[1]

    def _keep_stretches(self, start: int, changed: NDArray[np.int64]) -> None:
        """Regions of changed frames; one that began before goes on."""
        if len(changed) == 0:
            return
        breaks = np.flatnonzero(np.diff(changed) >= self._gap)
        firsts = start + changed[np.concatenate([[0], breaks + 1])]
        lasts = start + changed[np.concatenate([breaks, [len(changed) - 1]])]
        found = [(int(a), int(b - a + 1)) for a, b in zip(firsts, lasts, strict=True)]
        if self._stretches:
            before, length = self._stretches[-1]
            if found[0][0] - (before + length - 1) < self._gap:
                self._stretches[-1] = before, found[0][0] + found[0][1] - before
                found = found[1:]
        self._stretches += found
        if len(self._stretches) > 4 * _MOST_STRETCHES:
            self._stretches = _longest(self._stretches[:-1]) + self._stretches[-1:]

    def residual(self) -> Residual:
        """Of all that was taken."""
        changed, below = self._counts[:, 0].astype(float), self._counts[:, 2].astype(float)
        total, regions, longest = (int(n) for n in self._state[:3])
        differ = int(self._counts[:, 1].sum())
        loudness = _loudness(self._loudness)
        return Residual(
            self._frames, self._sums, self._peaks, changed, below, differ, total, regions, longest, loudness,
            self._any_below, tuple(_longest(self._stretches)),
        )  # fmt: skip


def residual_meter(reference: Source, aligned: AlignedSource, ceiling: float | None = None) -> ResidualMeter:
    """The meter of a pair."""
    step = max(reference.half_step, aligned.half_step)
    return ResidualMeter(reference.channels, reference.rate, reference.frames, step, ceiling)


def residual_of(reference: Source, aligned: AlignedSource, ceiling: float | None = None) -> Residual:
    """What is left over the overlap of a pair that is lined up."""
    meter = residual_meter(reference, aligned, ceiling)
    for start, x, y in rows_of_pair(reference, aligned):
        meter.add(start, x, y)
    return meter.residual()


def residual_readings(reference: Source, found: Residual, note: str | None, *, below: bool) -> list[Reading]:
    """Levels and loudness of the residual and counts of what changed.

    Args:
        note: what stands beside the levels.
        below: whether changes under the ceiling were asked for.
    """
    frames, rate = found.frames, reference.rate
    names = ["all", *(str(c + 1) for c in range(reference.channels))]
    energy, base = found.sums[:, 3], found.sums[:, 0]
    peaks = [float(found.peaks.max()), *map(float, found.peaks)]
    powers = [2 * float(energy.mean()) / frames, *(2 * float(e) / frames for e in energy)]
    bases = [2 * float(base.mean()) / frames, *(2 * float(b) / frames for b in base)]
    readings = [
        level("residual_peak", n, p, power=False, residual=True).noted(note) for n, p in zip(names, peaks, strict=True)
    ]
    readings += [
        level("residual_rms", n, p, power=True, residual=True).noted(note) for n, p in zip(names, powers, strict=True)
    ]
    readings += [_null_depth(n, b, p) for n, b, p in zip(names, bases, powers, strict=True)]
    counts = [float(c) for c in found.changed]
    readings += for_channels("changed_samples", counts, float(found.any_changed))
    shares = [100 * c / frames for c in counts]
    readings += for_channels("changed_share", shares, 100 * found.any_changed / frames)
    readings.append(Reading("changed_regions", "all", float(found.regions)))
    readings.append(Reading("longest_change", "all", 1000.0 * found.longest / rate))
    readings.append(found.loudness)
    if below:
        counts = [float(c) for c in found.below]
        readings += for_channels("changed_below", counts, float(found.any_below))
    return readings


def changed_curve(found: Residual, rate: int) -> Curve:
    """Where the longest changed regions begin, in seconds, and how long they are, in ms."""
    return Curve("s", "ms", [a / rate for a, _ in found.stretches], [1000 * n / rate for _, n in found.stretches])


def _longest(stretches: list[tuple[int, int]]) -> list[tuple[int, int]]:
    return sorted(sorted(stretches, key=lambda one: -one[1])[:_MOST_STRETCHES])


def perfect_null(channel: str) -> Reading:
    """The depth of a null that leaves nothing: deeper than every lower limit."""
    return Reading("null_depth", channel, None, NULL, reason="null", at_least=math.inf)


def _null_depth(channel: str, base: float, residual: float) -> Reading:
    if residual <= 0.0:
        return perfect_null(channel)
    if base <= 0.0:
        return Reading("null_depth", channel, None, "the reference is digital silence", reason="silence")
    return Reading("null_depth", channel, 10.0 * math.log10(base / residual))


def _loudness(meter: LoudnessMeter) -> Reading:
    """Integrated loudness of a difference; without gates where these leave nothing."""
    integrated = meter.readings()[0]
    if integrated.value is not None:
        return Reading("residual_loudness", "all", integrated.value)
    power = meter.ungated()
    if power <= 0.0:
        return null("residual_loudness", "all")
    return Reading("residual_loudness", "all", -0.691 + 10 * math.log10(power), "without gates, which leave nothing")
