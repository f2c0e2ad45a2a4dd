"""A reading: one measured value, or the reason why there is none."""

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from kind_echo.core.registry.measure import Measure
from kind_echo.core.registry.measures import find_measure

SILENCE = "digital silence"
NULL = "the residual is digital silence"

Reason = Literal["silence", "null", "identical", "not finite", "periodic", "unrelated", "drifts", "detector"]
"""Why there is no value, or what a value rests on, where programs act on it; `why` says it to people.

"silence": what is measured is digital silence. "null": the residual is. "identical": the pair is one and the same
audio. "not finite": samples that are NaN or infinite. Of a delay: "periodic": it is known up to whole periods only;
"unrelated": nothing correlates; "drifts": it changes over the file. "detector": a time constant is that of a detector
of the level, not of the gain.
"""


@dataclass(frozen=True)
class Reading:
    """One measured value.

    Attributes:
        measure: key in the registry.
        channel: "all", or a 1-based number.
        value: in the measure's unit; None when there is no reading.
        why: the reason for no reading, or a note beside a value.
        uncertainty: same unit, at 95 %; None where it does not depend on the data.
        at_most: an upper bound where only that is known; −inf for digital silence, which meets every upper limit.
        reason: why there is no value, where programs act on it.
        at_least: a lower bound where only that is known; +inf for the depth of a perfect null.
    """

    measure: str
    channel: str
    value: float | None
    why: str | None = None
    uncertainty: float | None = None
    at_most: float | None = None
    reason: Reason | None = None
    at_least: float | None = None

    @property
    def of(self) -> Measure:
        """What is measured, from the registry."""
        return find_measure(self.measure)

    @property
    def unit(self) -> str:
        """The unit, from the registry."""
        return self.of.unit

    def noted(self, note: str | None) -> "Reading":
        """The same reading with a note added."""
        if not note:
            return self
        return replace(self, why=f"{self.why}; {note}" if self.why else note)


@dataclass(frozen=True)
class Mark:
    """A place on a curve's axis at which something was read or found."""

    x: float
    text: str


@dataclass(frozen=True)
class Curve:
    """Values over something: time, frequency, level. Equal lengths, finite values.

    Attributes:
        marks: where on the axis readings were taken, and what was found there.
    """

    x_unit: str
    y_unit: str
    x: list[float]
    y: list[float]
    marks: tuple[Mark, ...] = ()


def severity(reading: Reading) -> tuple[int, float]:
    """To sort by: values by size, above bounds by size, above no reading."""
    if reading.value is not None:
        return 2, reading.value
    return (1, reading.at_most) if reading.at_most is not None else (0, 0.0)


def value_of(readings: Iterable[Reading], measure: str, channel: str = "all") -> float | None:
    """The value of a measure among readings; None when it is not there or has no value."""
    return next((r.value for r in readings if r.measure == measure and r.channel == channel), None)


def silent(measure: str, channel: str, why: str = SILENCE, reason: Reason = "silence") -> Reading:
    """The reading of a level of which nothing is there: no value, and under every upper limit."""
    return Reading(measure, channel, None, why, at_most=-math.inf, reason=reason)


def null(measure: str, channel: str) -> Reading:
    """The level of a residual that is digital silence."""
    return silent(measure, channel, NULL, "null")


def level(measure: str, channel: str, linear: float, *, power: bool, residual: bool = False) -> Reading:
    """A reading in decibels from an amplitude (20·log10) or a power (10·log10); zero is digital silence."""
    if linear <= 0.0:
        return null(measure, channel) if residual else silent(measure, channel)
    return Reading(measure, channel, (10.0 if power else 20.0) * math.log10(linear))


def for_channels(
    measure: str, values: Sequence[float | None], overall: float | None, why: str | None = None
) -> list[Reading]:
    """Readings of "all" and then of each channel; `why` goes with those that have no value."""
    named = [("all", overall), *((str(i + 1), v) for i, v in enumerate(values))]
    return [Reading(measure, channel, value, None if value is not None else why) for channel, value in named]


def refuse(measures: Iterable[str], channels: int, why: str, reason: Reason | None = None) -> list[Reading]:
    """No reading for each of the measures in every channel, with one reason."""
    readings = [reading for measure in measures for reading in for_channels(measure, [None] * channels, None, why)]
    return [replace(reading, reason=reason) for reading in readings] if reason is not None else readings
