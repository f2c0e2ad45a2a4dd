"""Sides at one level: the quietest sets it, so that nothing is boosted into clipping."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from kind_echo.core.audio.source import ArraySource, Samples
from kind_echo.core.levels.analysis import measure
from kind_echo.core.listening.match import By
from kind_echo.core.registry.readings import Reading

Matched = By | Literal["none"]


@dataclass(frozen=True)
class SideLevel:
    """How a side comes to the level of the others.

    Attributes:
        gain: dB, never above 0 unless a side beyond full scale brings all down.
        error: dB by which it is off once it is applied and measured again; None where it has no level.
        peak: dBFS of the greatest sample afterwards; None for silence.
        why: what keeps it from having a level.
    """

    gain: float
    error: float | None
    peak: float | None
    why: str = ""


def one_level(sides: Sequence[Samples], rate: int, by: Matched) -> list[SideLevel]:
    """The gain of each side, of stretches of shape (frames, channels).

    With "none" each stays as it was rendered. A side that would pass full scale takes all of them down with it.
    """
    levels = [None if by == "none" else _reading(side, rate, by) for side in sides]
    known = [level.value for level in levels if level is not None and level.value is not None]
    target = min(known) if known else 0.0
    gains = [0.0 if level is None or level.value is None else target - level.value for level in levels]
    peaks = [float(np.abs(side).max(initial=0.0)) for side in sides]
    loudest = max(
        (20 * np.log10(peak) + gain for peak, gain in zip(peaks, gains, strict=True) if peak > 0.0), default=0.0
    )
    down = min(0.0, -float(loudest))
    found = []
    for side, level, gain, peak in zip(sides, levels, gains, peaks, strict=True):
        total = gain + down
        error, why = None, ""
        if level is not None and level.value is None:
            why = level.why or "it has no level"
        elif level is not None:
            after = _reading(side * 10 ** (total / 20), rate, by)
            error = None if after.value is None else after.value - (target + down)
        found.append(SideLevel(total, error, 20 * float(np.log10(peak)) + total if peak > 0.0 else None, why))
    return found


def _reading(samples: Samples, rate: int, by: Matched) -> Reading:
    found = measure(ArraySource(np.ascontiguousarray(samples), rate))
    return next(r for r in found if r.measure == by and r.channel == "all")
