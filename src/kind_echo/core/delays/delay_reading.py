"""A delay with its uncertainty, or why there is none; and how it is made finer from a correlation near by."""

from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from kind_echo.core.audio.correlation import (
    NEIGHBOURHOOD,
    Correlation,
    Floats,
    MapFunction,
    correlate,
    refine,
    uncertainty,
)
from kind_echo.core.audio.source import Source
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import Reason

_WHY: dict[Reason, str] = {
    "unrelated": "nothing in the render correlates with the reference",
    "periodic": "the signal is periodic: the delay is known up to whole periods only",
    "silence": "one side is silent",
}

_LEAST_SHARPENED_FRAMES = 1 << 11  # frames from which a delay is sharpened
_LONG_FILE_BLOCKS = 16  # blocks of a long file from which it is
_REFINED_LAGS = 128  # lags on either side that a refinement needs
_WHOLE_WITHIN_SAMPLES = 1e-5  # of a sample: what rounding makes of a delay of whole samples


@dataclass(frozen=True)
class Delay:
    """Where the render lies against the reference.

    Attributes:
        samples: positive when the render is later; None when it cannot be had.
        polarity: +1 or −1; None with the delay.
        uncertainty: of samples, at 95 %.
        why: reason for no delay.
        reason: the same where programs act on it.
        within: of a periodic signal, the least of the delays that it may have, in samples.
    """

    samples: float | None
    polarity: int | None = None
    uncertainty: float | None = None
    why: str | None = None
    reason: Reason | None = None
    within: float | None = None

    @property
    def nearest(self) -> float | None:
        """The delay; of a periodic signal, the least that it may have."""
        return self.within if self.samples is None else self.samples


def no_delay_of_period(period: float, delay: float) -> Delay:
    """None but up to whole periods, of so many samples, from one of the delays that fit."""
    within = delay - period * round(delay / period)
    why = (
        f"{_WHY['periodic']}; it is {number(within, '+.2f')} samples and any whole periods of {period:.2f} more or less"
    )
    return Delay(None, why=why, reason="periodic", within=within)


def no_delay(reason: Literal["unrelated", "periodic", "silence"]) -> Delay:
    """No delay, for a reason."""
    return Delay(None, why=_WHY[reason], reason=reason)


def correlation_near(reference: Source, render: Source, delay: Delay, spread: MapFunction) -> Correlation | None:
    """Correlation at the lags around a delay; None where too few frames take part.

    Only frames take part that have a partner at every lag near by: fewer frames would overlap at one lag than at the
    next, which pulls the peak.
    """
    if delay.samples is None:
        return None
    centre = round(delay.samples)
    lo, hi = max(0, NEIGHBOURHOOD - centre), min(reference.frames, render.frames - centre - NEIGHBOURHOOD)
    if hi - lo < _LEAST_SHARPENED_FRAMES:
        return None
    return correlate(reference, render, NEIGHBOURHOOD, centre, _LONG_FILE_BLOCKS, spread, (lo, hi))


def sharpen(found: Correlation, overall: Delay, each: list[Delay]) -> tuple[Delay, list[Delay]]:
    """The delays from the correlation around the overall one, which tells them most finely."""
    centre = round(overall.samples or 0.0)
    scales = np.sqrt(found.own * found.other)
    signs = np.array([float(delay.polarity or 0) for delay in each])
    together = _sharp(overall, centre, found.lags @ signs, scales @ np.abs(signs), found.frames)
    apart = [
        _sharp(delay, centre, found.lags[:, c] * signs[c], scales[:, c], found.frames) for c, delay in enumerate(each)
    ]
    return together, apart


def _sharp(delay: Delay, centre: int, lags: Floats, scale: Floats, frames: int) -> Delay:
    """One delay from a correlation that is positive at its peak, and the greatest that it could be at each lag."""
    if delay.samples is None:
        return delay
    at = len(lags) // 2 + round(delay.samples) - centre
    if not _REFINED_LAGS <= at < len(lags) - _REFINED_LAGS or scale.min() <= 0.0:
        return delay
    fraction, peak, bandwidth = refine(lags / scale, at)
    if abs(fraction) >= 1.0:
        return delay
    if abs(fraction) < _WHOLE_WITHIN_SAMPLES:
        fraction = 0.0
    samples = centre + at - len(lags) // 2 + fraction
    return replace(delay, samples=samples, uncertainty=uncertainty(peak, frames, bandwidth))
