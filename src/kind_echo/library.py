"""Measuring from Python: what `import kind_echo` offers.

A sound is the path of a file, or an array of shape (frames,) or (frames, channels) with its rate in Hz. Samples are
float, full scale ±1.0. Each function gives a `Result`: readings with their uncertainties, what explains a difference,
and whether limits hold.

>>> import numpy as np
>>> import kind_echo
>>> noise = np.random.default_rng(1).uniform(-0.5, 0.5, 48_000)
>>> found = kind_echo.compare(noise, 0.5 * noise, rate=48_000)
>>> round(found["gain"].value, 2)
-6.02
>>> found.explain()
'6.02 dB down'
>>> kind_echo.compare(noise, noise, rate=48_000, limits={"residual_rms": "<= -120"}).passes
True
"""

import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from html import escape
from typing import TYPE_CHECKING, Any, Union

import numpy as np
from numpy.typing import ArrayLike

from kind_echo.core.causes.cause import Cause
from kind_echo.core.registry.errors import BadParameter, KindEchoError
from kind_echo.core.registry.limits import judge, parse_limit
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Curve, Reading

if TYPE_CHECKING:
    from kind_echo.core.audio.align import Align
    from kind_echo.core.audio.source import Source

__all__ = [
    "Cause", "Curve", "KindEchoError", "Limit", "Reading", "Result", "alias_sweep", "compare", "curve", "dynamics",
    "imd", "latency", "measure", "response", "tone",
]  # fmt: skip

Sound = Union[str, "os.PathLike[str]", ArrayLike]
"""The path of a file, or samples."""

Limits = Mapping[str, str | tuple[float | None, float | None] | Limit]
"""By measure: "<= -120" or ">= -1", (at least, at most) with None for no bound, or a `Limit`."""


@dataclass(frozen=True)
class Result:
    """What was measured.

    Attributes:
        command: what measured it, as the command line calls it.
        readings: in the order of the command line.
        causes: what explains a difference, that which explains most first; empty for what compares nothing.
        curves: by name.
        limits: that were asked for, by measure.
    """

    command: str
    readings: tuple[Reading, ...]
    causes: tuple[Cause, ...] = ()
    curves: Mapping[str, Curve] = field(default_factory=dict)
    limits: Mapping[str, Limit] = field(default_factory=dict)

    def __getitem__(self, measure: str) -> Reading:
        """The reading of all channels together. Raises KeyError where it was not measured."""
        return self.reading(measure)

    def __iter__(self) -> Iterator[Reading]:
        return iter(self.readings)

    def reading(self, measure: str, channel: str | int = "all") -> Reading:
        """The reading of a measure, of one channel (from 1) or of all. Raises KeyError where it was not measured."""
        for one in self.readings:
            if one.measure == measure and one.channel == str(channel):
                return one
        raise KeyError(f"{self.command} gives no {measure} for channel {channel}")

    def value(self, measure: str, channel: str | int = "all") -> float | None:
        """The value of a measure; None where there is no reading. Raises KeyError where it was not measured."""
        return self.reading(measure, channel).value

    @property
    def broken(self) -> tuple[Reading, ...]:
        """The readings that break their limit, or have no value or bound that shows that they keep it."""
        return tuple(self[key] for key, limit in self.limits.items() if judge(self[key], limit) != "met")

    @property
    def passes(self) -> bool:
        """Whether every limit that was asked for holds."""
        return not self.broken

    def explain(self) -> str:
        """In words, what explains a difference, and which limits are broken."""
        from kind_echo.wording.causes import describe
        from kind_echo.wording.figures import judged_limit_text

        parts = [describe(self.causes)] if self.causes else []
        parts += [judged_limit_text(one, self.limits[one.measure], judge(one, self.limits[one.measure]))
                  for one in self.broken]  # fmt: skip
        return "; ".join(parts)

    def _repr_html_(self) -> str:
        """A table, as notebooks show it."""
        from kind_echo.wording.figures import figure

        rows = [
            f"<tr><td>{escape(one.of.title)}</td>"
            f'<td style="text-align:right">{escape(figure(one) if one.value is not None else "—")}</td>'
            f"<td>{escape(one.why or '')}</td></tr>"
            for one in self.readings
            if one.channel == "all"
        ]
        head = f"<p><b>{escape(self.explain())}</b></p>" if self.explain() else ""
        return f"{head}<table>{''.join(rows)}</table>"


def compare(
    reference: Sound,
    render: Sound,
    rate: int | None = None,
    *,
    align: "Align" = "samples",
    match_gain: bool = False,
    match_polarity: bool = False,
    max_delay: int | None = None,
    stimulus: Sound | None = None,
    limits: Limits | None = None,
) -> Result:
    """A render against its reference: delay, polarity, gain, what is left and what explains it.

    Args:
        rate: Hz, of samples; files have their own.
        align: what of the delay is taken off: "none", "samples" or "fraction".
        match_gain, match_polarity: bring the render to the reference's level, turn an inverted one over.
        max_delay: samples to either side in which the delay is sought.
        stimulus: what went into both: a staircase or a burst tells the law that changed.
        limits: by measure.
    Raises:
        KindEchoError: a file cannot be read, the two do not belong together, or a limit is on no such measure.
    """
    from kind_echo.core.comparison.compare import compare as compare_sources
    from kind_echo.core.comparison.pair import CompareOptions
    from kind_echo.core.systems.law_change import with_changed_law

    options = CompareOptions(align, match_gain, match_polarity, max_delay)
    with opened_sounds(rate, reference, render, stimulus) as (first, second, went_in):
        found = compare_sources(first, second, options)
        if went_in is not None:
            found = with_changed_law(found, went_in, first, second)
        by_itself = [] if found.sides is None else found.sides[1].readings
    told = {(one.measure, one.channel) for one in found.readings}
    readings = [*found.readings, *(one for one in by_itself if (one.measure, one.channel) not in told)]
    return _result("compare", readings, found.curves, limits, found.causes)


def measure(sound: Sound, rate: int | None = None, *, limits: Limits | None = None) -> Result:
    """Integrity, levels and loudness of one sound. Arguments and errors as of `compare`."""
    from kind_echo.core.levels.analysis import measure as measure_source

    with opened_sounds(rate, sound) as (source,):
        return _result("measure", measure_source(source), {}, limits)


def tone(
    sound: Sound, rate: int | None = None, *, frequency: float | None = None, limits: Limits | None = None
) -> Result:
    """Harmonics, aliases and noise of a steady tone; of the strongest where no frequency is given, Hz."""
    from kind_echo.core.tones.tone import ToneOptions, measure_tone

    with opened_sounds(rate, sound) as (source,):
        return _result("tone", *measure_tone(source, ToneOptions(frequency)), limits)


def imd(sound: Sound, rate: int | None = None, *, tones: tuple[float, float], limits: Limits | None = None) -> Result:
    """What two tones, Hz, make of each other."""
    from kind_echo.core.tones.imd import measure_imd

    with opened_sounds(rate, sound) as (source,):
        return _result("imd", *measure_imd(source, tones), limits)


def alias_sweep(stimulus: Sound, output: Sound, rate: int | None = None, *, limits: Limits | None = None) -> Result:
    """The worst alias of each of the stepped tones that went in."""
    from kind_echo.core.tones.alias_sweep import measure_alias_sweep

    return _of_system("alias-sweep", measure_alias_sweep, stimulus, output, rate, limits)


def response(stimulus: Sound, output: Sound, rate: int | None = None, *, limits: Limits | None = None) -> Result:
    """Magnitude, phase and group delay from what went in to what came out."""
    from kind_echo.core.systems.response import measure_response

    return _of_system("response", measure_response, stimulus, output, rate, limits)


def latency(stimulus: Sound, output: Sound, rate: int | None = None, *, limits: Limits | None = None) -> Result:
    """How late the output is, click by click, or on any broadband signal."""
    from kind_echo.core.systems.latency import measure_latency

    return _of_system("latency", measure_latency, stimulus, output, rate, limits)


def curve(
    stimulus: Sound,
    output: Sound,
    rate: int | None = None,
    *,
    threshold: float | None = None,
    ratio: float | None = None,
    knee: float = 0.0,
    makeup: float = 0.0,
    limits: Limits | None = None,
) -> Result:
    """Levels out for a staircase of levels in, against the law that is expected where threshold and ratio are given."""
    from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve

    if (threshold is None) != (ratio is None):
        raise BadParameter("threshold and ratio", (threshold, ratio), "given together")
    law = None if threshold is None or ratio is None else ExpectedCurve(threshold, ratio, knee, makeup)
    return _of_system("curve", lambda a, b: measure_curve(a, b, law), stimulus, output, rate, limits)


def dynamics(stimulus: Sound, output: Sound, rate: int | None = None, *, limits: Limits | None = None) -> Result:
    """Attack, release, overshoot and look-ahead on a burst of tone."""
    from kind_echo.core.systems.dynamics import measure_dynamics

    return _of_system("dynamics", measure_dynamics, stimulus, output, rate, limits)


_Measure = Callable[["Source", "Source"], tuple[list[Reading], dict[str, Curve]]]


def _of_system(
    command: str, measure: _Measure, stimulus: Sound, output: Sound, rate: int | None, limits: Limits | None
) -> Result:
    with opened_sounds(rate, stimulus, output) as (went_in, came_out):
        return _result(command, *measure(went_in, came_out), limits)


def _result(
    command: str,
    readings: Iterable[Reading],
    curves: Mapping[str, Curve],
    limits: Limits | None,
    causes: Iterable[Cause] = (),
) -> Result:
    wanted = {key: _limit(key, one) for key, one in (limits or {}).items()}
    found = tuple(readings)
    known = {one.measure for one in found}
    for key in wanted:
        if key not in known:
            raise BadParameter("limits", key, f"on a measure that {command} gives")
    return Result(command, found, tuple(causes), dict(curves), wanted)


def _limit(key: str, given: str | tuple[float | None, float | None] | Limit) -> Limit:
    if isinstance(given, Limit):
        return given
    if isinstance(given, str):
        return parse_limit(f"{key}{given}")[1]
    find_measure(key)
    low, high = given
    return Limit(low, high)


@contextmanager
def opened_sounds(rate: int | None, *sounds: Sound | None) -> Iterator[tuple[Any, ...]]:
    """Sounds as sources; None for None. Raises KindEchoError."""
    from kind_echo.audio_io.files import AudioFile
    from kind_echo.core.audio.source import ArraySource

    with ExitStack() as stack:
        made: list[Any] = []
        for one in sounds:
            if one is None:
                made.append(None)
            elif isinstance(one, str | os.PathLike):
                made.append(stack.enter_context(AudioFile(os.fspath(one))))
            else:
                made.append(ArraySource(_samples(one), _rate(rate)))
        yield tuple(made)


def _samples(given: ArrayLike) -> Any:
    samples = np.asarray(given)
    if samples.ndim not in (1, 2) or not samples.size or samples.dtype.kind not in "fiu":
        raise BadParameter("sound", f"an array of shape {samples.shape}", "of shape (frames,) or (frames, channels)")
    if samples.dtype.kind in "iu":
        raise BadParameter("sound", f"samples of {samples.dtype}", "of floats, full scale ±1.0")
    if samples.ndim == 2 and samples.shape[1] > samples.shape[0]:
        raise BadParameter("sound", f"an array of shape {samples.shape}", "with frames first: (frames, channels)")
    return np.ascontiguousarray(samples.reshape(len(samples), -1), np.float64)


def _rate(rate: int | None) -> int:
    if rate is None or isinstance(rate, bool) or int(rate) != rate or rate < 1:
        raise BadParameter("rate", rate, "given in Hz, whole, where samples are")
    return int(rate)
