"""Stepped tones from low to near half the rate: the worst alias of each, and the map of where they land."""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.errors import BadParameter, ChannelMismatch, RateMismatch
from kind_echo.core.lines import LineSpectrum
from kind_echo.core.readings import Curve, Reading
from kind_echo.core.source import Source, blocks
from kind_echo.core.tone import Line, ToneAnalysis, ToneOptions, analyse_channel

Floats = NDArray[np.float64]
Lines = list[tuple[float, Line]]

MEASURES = ("alias_worst_level", "alias_worst_frequency", "alias_worst_order", "alias_total")
_WINDOW_SECONDS = 0.02
_LEAST_SECONDS = 0.1
_GUARD = 0.1  # of a step left out at either end, for what has not settled
_SAME = 0.003  # frequencies of neighbouring windows closer than this belong to one step


@dataclass(frozen=True)
class Step:
    """One tone of the input: its frequency and the frames for which it stands."""

    frequency: float
    start: int
    stop: int


def find_steps(source: Source) -> list[Step]:
    """The tones of a stepped signal, in order: stretches of at least 0.1 s of one frequency."""
    window = round(_WINDOW_SECONDS * source.rate)
    frequencies: list[float] = []
    for _, block in blocks(source, size=window * 256):
        for begin in range(0, len(block) - window + 1, window):
            frequencies.append(_rough_frequency(block[begin : begin + window, 0], source.rate))
    steps, first = [], 0
    for i in range(1, len(frequencies) + 1):
        here = frequencies[i] if i < len(frequencies) else math.nan
        before = frequencies[i - 1]
        if not abs(here - before) <= _SAME * max(before, 1.0) + 0.2:
            if before > 0.0 and (i - first) * _WINDOW_SECONDS >= _LEAST_SECONDS:
                steps.append(Step(float(np.median(frequencies[first:i])), first * window, i * window))
            first = i
    return steps


def _rough_frequency(samples: Floats, rate: int) -> float:
    """Frequency of a sine from two of its differences; 0 for silence or what is no sine.

    For a sine x[i−1] + x[i+1] = 2·cos(w)·x[i]; least squares over the window (R. Prony, 1795).
    """
    middle = samples[1:-1]
    energy = float(middle @ middle)
    if energy < 1e-9 * len(middle):
        return 0.0
    pair = samples[:-2] + samples[2:]
    cosine = float(pair @ middle) / (2 * energy)
    error = pair - 2 * cosine * middle
    if abs(cosine) >= 1.0 or float(error @ error) > 1e-3 * energy:
        return 0.0
    return math.acos(cosine) * rate / (2 * math.pi)


def measure_alias_sweep(source: Source, output: Source) -> tuple[list[Reading], dict[str, Curve]]:
    """The worst alias over all steps, the worst of each step, and the map of all lines that stand out.

    The curve `alias_by_frequency` has the steps at which an alias stands out; `alias_map_input`, `alias_map_output` and
    `alias_map_order` list each line of the map: frequency of the input, of the line, and its order, over its level.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
        BadParameter: the input has no steps.
    """
    if source.rate != output.rate:
        raise RateMismatch(source.rate, output.rate)
    if source.channels != output.channels:
        raise ChannelMismatch(source.channels, output.channels)
    steps = find_steps(source)
    if not steps:
        raise BadParameter("INPUT", "the file", "stepped tones of at least 0.1 s each")
    found = [_analyse(step, output) for step in steps]
    if all(one is None for one in found):
        return [Reading(key, "all", None, "the test signal is not in the render") for key in MEASURES], {}
    lines = [(one.frequency, line) for one in found if one is not None for line in one.aliases if line.found]
    missing = sum(one is None for one in found)
    note = f"{missing} of {len(steps)} tones are not in the render" if missing else None
    return _readings(lines, [one for one in found if one is not None], note), _curves(lines)


def _analyse(step: Step, output: Source) -> ToneAnalysis | None:
    """The analysis of the channel with the worst alias, in the middle of a step."""
    guard = int(_GUARD * (step.stop - step.start))
    lo, hi = step.start + guard, min(step.stop - guard, output.frames)
    if hi - lo < 256:
        return None
    samples = output.read(lo, hi)
    if not np.isfinite(samples).all():
        return None
    channels = [
        analyse_channel(LineSpectrum.of(np.ascontiguousarray(samples[:, c]), output.rate), ToneOptions(step.frequency))
        for c in range(output.channels)
    ]
    there = [one for one in channels if one is not None]
    return max(there, key=_worst, default=None)


def _worst(found: ToneAnalysis) -> float:
    return max((line.amplitude for line in found.aliases if line.found), default=0.0)


def _readings(lines: Lines, found: list[ToneAnalysis], note: str | None) -> list[Reading]:
    if not lines:
        floors = [line.floor for one in found for line in one.aliases]
        bound = 20 * math.log10(2 * max(floors)) if floors and max(floors) > 0 else -math.inf
        why = "no alias stands out of the floor at any step"
        return [
            Reading(key, "all", None, why, at_most=bound if key.endswith(("level", "total")) else None).noted(note)
            for key in MEASURES
        ]
    worst = max((line for _, line in lines), key=lambda line: line.amplitude)
    totals: dict[float, float] = {}
    for frequency, line in lines:
        totals[frequency] = totals.get(frequency, 0.0) + line.amplitude**2
    values = (worst.amplitude, worst.frequency, worst.order, math.sqrt(max(totals.values())))
    return [
        Reading("alias_worst_level", "all", 20 * math.log10(values[0])).noted(note),
        Reading("alias_worst_frequency", "all", values[1]),
        Reading("alias_worst_order", "all", float(values[2])),
        Reading("alias_total", "all", 20 * math.log10(values[3]), "of the worst step"),
    ]


def _curves(lines: Lines) -> dict[str, Curve]:
    by_step: dict[float, float] = {}
    for frequency, line in lines:
        by_step[frequency] = max(by_step.get(frequency, 0.0), line.amplitude)
    levels = [20 * math.log10(line.amplitude) for _, line in lines]
    return {
        "alias_by_frequency": Curve("Hz", "dBFS", list(by_step), [20 * math.log10(a) for a in by_step.values()]),
        "alias_map_input": Curve("Hz", "dBFS", [frequency for frequency, _ in lines], levels),
        "alias_map_output": Curve("Hz", "dBFS", [line.frequency for _, line in lines], levels),
        "alias_map_order": Curve("", "dBFS", [float(line.order) for _, line in lines], levels),
    }
