"""Measures of a file that are added from outside the package."""

from collections.abc import Callable
from dataclasses import dataclass

from kind_echo.core.audio.source import Source
from kind_echo.core.registry.measure import Measure
from kind_echo.core.registry.measures import declare
from kind_echo.core.registry.readings import Reading, for_channels, refuse
from kind_echo.core.registry.versions import add_version

ChannelValues = tuple[list[float | None], float | None]
"""A value for each channel and one for all; None where there is none."""


@dataclass(frozen=True)
class _Added:
    take: Callable[[Source], ChannelValues]
    why_none: str


_ADDED: dict[str, _Added] = {}


def add_file_measure(measure: Measure, version: int, take: Callable[[Source], ChannelValues], why_none: str) -> None:
    """Measure every file by a function of one's own as well: on the command line, of renders, in limits, on the page.

    Args:
        measure: its declaration; of the family "levels", "loudness" or "integrity".
        version: to be raised when its results change, so that kept ones are made anew.
        take: from all samples, which are finite, to a value for each channel and one for all.
        why_none: what is said where it gives none.

    Raises:
        MeasureDeclared: its key is taken.
    """
    declare(measure)
    add_version(measure.family, f"{measure.key} {version}")
    _ADDED[measure.key] = _Added(take, why_none)


def added_readings(source: Source) -> list[Reading]:
    """The readings of all measures that were added, of a file whose samples are finite."""
    readings: list[Reading] = []
    for key, one in _ADDED.items():
        values, overall = one.take(source)
        readings += for_channels(key, values, overall, one.why_none)
    return readings


def refused_readings(channels: int, why: str) -> list[Reading]:
    """What stands for them where samples are not finite."""
    return refuse(tuple(_ADDED), channels, why, "not finite")
