"""Bringing a file to a level, and saying how well that came out."""

from dataclasses import dataclass
from typing import Literal, get_args

from kind_echo.core.audio.align import AlignedSource, Alignment
from kind_echo.core.audio.source import ArraySource, Source
from kind_echo.core.levels.analysis import measure
from kind_echo.core.levels.loudness import loudest_passage
from kind_echo.core.listening.passages import first_note
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.numbers import number
from kind_echo.core.registry.readings import SILENCE, Reading

By = Literal["rms", "loudness_integrated", "vu_max", "sample_peak", "true_peak"]
BY: tuple[By, ...] = get_args(By)


@dataclass(frozen=True)
class Match:
    """The gain found, as a factor (None where there is none), and the readings."""

    factor: float | None
    readings: list[Reading]


Passage = tuple[float, float] | Literal["loudest", "first"]
"""Start and end in seconds, the passage of greatest short-term loudness, or the first note."""


def match_level(source: Source, target: float, by: By, passage: Passage | None = None) -> Match:
    """match_gain and match_error by a measure, over the whole file or a passage; and the loudest passage.

    Args:
        target: in the unit of the measure.
        passage: what of the file is brought to the target; all of it unless given.
    Raises:
        BadParameter: the passage lies outside the file.
    """
    loudest = _loudest(source)
    if passage == "loudest":
        start, end = (reading.value for reading in loudest)
        passage = None if start is None or end is None else (start, min(end, source.frames / source.rate))
    elif passage == "first":
        passage = first_note(source)
    part = _part(source, passage)
    before = _reading(part, by)
    if before.value is None:
        why = f"{by}: {before.why}"
        return Match(
            None,
            [Reading(key, "all", None, why, reason=before.reason) for key in ("match_gain", "match_error")] + loudest,
        )
    gain = target - before.value
    factor = float(10 ** (gain / 20))
    after = _reading(AlignedSource(part, part.frames, Alignment(scale=factor)), by)
    error = None if after.value is None else after.value - target
    return Match(
        factor, [Reading("match_gain", "all", gain), Reading("match_error", "all", error, after.why), *loudest]
    )


def _part(source: Source, passage: tuple[float, float] | None) -> Source:
    if passage is None:
        return source
    start, stop = (round(seconds * source.rate) for seconds in passage)
    if not 0 <= start < stop <= source.frames:
        raise BadParameter("passage", passage, f"from 0 to {source.frames / source.rate:g} s, start before end")
    return ArraySource(source.read(start, stop), source.rate, source.half_step, source.rail)


def _reading(source: Source, by: By) -> Reading:
    return next(r for r in measure(source) if r.measure == by and r.channel == "all")


def _loudest(source: Source) -> list[Reading]:
    found = loudest_passage(source)
    keys = ("loudest_start", "loudest_end")
    if found is None:
        return [Reading(key, "all", None, SILENCE, reason="silence") for key in keys]
    note = f"{number(found[2], '.1f')} LUFS"
    return [Reading(keys[0], "all", found[0], note), Reading(keys[1], "all", found[1], note)]
