"""Stepped tones from low to near half the rate: the worst alias of each, and the map of where they land."""

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.folding import fold_line
from kind_echo.core.audio.source import Source, blocks, is_finite
from kind_echo.core.comparison.pair import check_pair
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import Curve, Reading, refuse, severity
from kind_echo.core.tones.lines import LineSpectrum
from kind_echo.core.tones.tone import ToneAnalysis, ToneOptions, analyse_channel, tone_readings

Floats = NDArray[np.float64]
_Worst = dict[str, Reading]  # of one tone, by measure

MEASURES = ("alias_worst_level", "alias_worst_frequency", "alias_worst_order", "alias_total")
BY_STEP = {
    "alias_by_frequency": "alias_worst_level",
    "fundamental_by_frequency": "fundamental_level",
    "thd_by_frequency": "thd",
    "thd_n_by_frequency": "thd_n",
    "noise_by_frequency": "noise_floor",
}
"""Curves over the steps, and the tone measure that each shows."""

_WINDOW_SECONDS = 0.02
_LEAST_SECONDS = 0.1
_GUARD_SHARE = 0.1  # of a step left out at either end, for what has not settled
_MOST_ORDERS = 12  # of which the lines are given; with more of them no map can be read
_SAME_FREQUENCY_SHARE = 0.003  # frequencies of neighbouring windows closer than this belong to one step


@dataclass(frozen=True)
class Step:
    """One tone of the input: its frequency and the frames for which it stands."""

    frequency: float
    start: int
    stop: int


def find_steps(source: Source) -> list[Step]:
    """The tones of a stepped signal, in order: stretches of at least 0.1 s of one frequency, in the loudest channel."""
    window = round(_WINDOW_SECONDS * source.rate)
    loudest = int(sum(np.square(block).sum(axis=0) for _, block in blocks(source)).argmax()) if source.frames else 0
    frequencies: list[float] = []
    for _, block in blocks(source, size=window * 256):
        for begin in range(0, len(block) - window + 1, window):
            frequencies.append(_rough_frequency(block[begin : begin + window, loudest], source.rate))
    steps, first = [], 0
    for i in range(1, len(frequencies) + 1):
        here = frequencies[i] if i < len(frequencies) else math.nan
        before = frequencies[i - 1]
        if not abs(here - before) <= _SAME_FREQUENCY_SHARE * max(before, 1.0) + 0.2:
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
    """The worst alias over all steps for each channel, the tone measures of each step, and the map of all lines.

    The output's delay is taken off first, so that each step is looked for where it sounds. The curves of `BY_STEP` give
    the worst of all channels at each step that has a reading. The map is that of each step's worst channel:
    `alias_map_input`, `alias_map_output` and `alias_map_order` list the frequency of the input, that of the line, and
    its order, over the level of each line that stands out; `fold_lines` and `fold_lines_order` are where arithmetic has
    the strongest twelve of these orders, from turn to turn.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
        BadParameter: the input has no steps.
    """
    check_pair(source, output)
    if not (is_finite(source) and is_finite(output)):
        return refuse(MEASURES, output.channels, "a file has NaN or infinite samples", "not finite"), {}
    steps = find_steps(source)
    if not steps:
        raise BadParameter("INPUT", "the file", "stepped tones of at least 0.1 s each")
    delay, _ = find_delays(source, output)
    shift = 0 if delay.samples is None else round(delay.samples)
    found = [_analyse(step, output, shift) for step in steps]
    worst_by_step = [
        [None if one is None else _worst_of(str(c + 1), one) for c, one in enumerate(step)] for step in found
    ]
    undelayed = None if delay.samples is not None else "taken as not delayed, for no delay was found"
    each = [
        [reading.noted(undelayed) for reading in _channel(str(c + 1), [step[c] for step in worst_by_step])]
        for c in range(output.channels)
    ]
    by_key = [[overall, *own] for overall, *own in zip(_overall(each), *each, strict=True)]
    curves = {name: _by_step(worst_by_step, key) for name, key in BY_STEP.items()} | _map(found, output.rate)
    return [reading for readings in by_key for reading in readings], curves


def _analyse(step: Step, output: Source, shift: int) -> list[ToneAnalysis | None]:
    """What the middle of a step holds, for each channel; None where the tone is not there."""
    guard = int(_GUARD_SHARE * (step.stop - step.start))
    lo, hi = step.start + guard + shift, step.stop - guard + shift
    if lo < 0 or hi > output.frames:
        return [None] * output.channels
    samples = output.read(lo, hi)
    options = ToneOptions(step.frequency)
    spectra = [LineSpectrum.of(np.ascontiguousarray(channel), output.rate) for channel in samples.T]
    return [analyse_channel(one, options) if one.resolves(step.frequency) else None for one in spectra]


def _worst_of(channel: str, found: ToneAnalysis) -> _Worst:
    return {reading.measure: reading for reading in tone_readings(channel, found)}


def _channel(name: str, found: Sequence[_Worst | None]) -> list[Reading]:
    """The worst of all steps, in the order of MEASURES."""
    there = [one for one in found if one is not None]
    if not there:
        return [Reading(key, name, None, "the test signal is not in the render") for key in MEASURES]
    gone = len(found) - len(there)
    note = f"{gone} of {len(found)} tones are not in the render, or too short" if gone else None
    worst = max(there, key=lambda step: severity(step["alias_worst_level"]))
    total = max((step["alias_total"] for step in there), key=severity)
    if worst["alias_worst_level"].value is None:
        bounds = {key: worst[key].at_most for key in MEASURES} | {"alias_total": total.at_most}
        none = worst["alias_worst_level"]
        why = none.why if none.at_most is None else "no alias stands out of the floor at any step"
        return [Reading(key, name, None, why, at_most=bound).noted(note) for key, bound in bounds.items()]
    *alias, _ = (worst[key].noted(note) for key in MEASURES)
    return [*alias, total.noted("of the worst step")]


def _overall(each: list[list[Reading]]) -> list[Reading]:
    """Those of the channel with the worst alias; the greatest of the totals."""
    *worst, _ = max(each, key=lambda channel: severity(channel[0]))
    total = max((channel[-1] for channel in each), key=severity)
    return [replace(reading, channel="all") for reading in (*worst, total)]


def _map(found: list[list[ToneAnalysis | None]], rate: int) -> dict[str, Curve]:
    steps = [[one for one in step if one is not None] for step in found]
    worst = [max(step, key=_loudest_alias) for step in steps if step]
    lines = [(one.frequency, line) for one in worst for line in one.aliases if line.found]
    levels = [20 * math.log10(line.amplitude) for _, line in lines]
    tones = [one.frequency for one in worst]
    strongest = dict.fromkeys(line.order for _, line in sorted(lines, key=lambda one: -one[1].amplitude))
    orders = sorted([*strongest][:_MOST_ORDERS])
    turns = [(order, *turn) for order in orders for turn in fold_line(order, min(tones), max(tones), rate)]
    return {
        "alias_map_input": Curve("Hz", "dBFS", [frequency for frequency, _ in lines], levels),
        "alias_map_output": Curve("Hz", "dBFS", [line.frequency for _, line in lines], levels),
        "alias_map_order": Curve("", "dBFS", [float(line.order) for _, line in lines], levels),
        "fold_lines": Curve("Hz", "Hz", [tone for _, tone, _ in turns], [line for *_, line in turns]),
        "fold_lines_order": Curve("", "Hz", [float(order) for order, *_ in turns], [line for *_, line in turns]),
    }


def _loudest_alias(found: ToneAnalysis) -> float:
    return max((line.amplitude for line in found.aliases if line.found), default=0.0)


def _by_step(worst_by_step: list[list[_Worst | None]], key: str) -> Curve:
    """The worst of all channels at each step that has a reading."""
    points = []
    for step in worst_by_step:
        there = [one for one in step if one is not None]
        worst = max((one[key] for one in there), key=severity, default=None)
        if worst is not None and worst.value is not None:
            points.append((there[0]["fundamental_frequency"].value or 0.0, worst.value))
    return Curve("Hz", find_measure(key).unit, [x for x, _ in points], [y for _, y in points])
