"""What kind of test signal a file is, by its sound, and what a render tells beside it."""

from collections.abc import Callable, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Source, blocks, is_finite
from kind_echo.core.comparison.on_signals import sound_of
from kind_echo.core.delays.periods import is_steady_tone
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.systems.dynamics import find_burst, measure_dynamics
from kind_echo.core.systems.latency import measure_latency
from kind_echo.core.systems.of_test_signal import measure_test_signal
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import find_plateaus, measure_curve
from kind_echo.core.tones.alias_sweep import find_steps, measure_alias_sweep

Floats = NDArray[np.float64]

_LEAST_STEPS = 4  # of level, that are a staircase
_MOST_FRAMES = 1 << 23  # in which a burst is looked for

Signal = Literal["silence", "tone", "staircase", "burst", "sweep", "clicks", "steps", "other"]
SIGNALS: tuple[Signal, ...] = ("silence", "tone", "staircase", "burst", "sweep", "clicks", "steps", "other")
"""Kinds of signal that are known by their sound; "steps" are the tones of an alias sweep, one after the other."""

_Measure = Callable[[Source, Source], tuple[list[Reading], dict[str, Curve]]]


def recognise(source: Source) -> Signal:
    """What kind of signal a file is, by its sound."""
    if not is_finite(source):
        return "other"
    if not any(block.any() for _, block in blocks(source)):
        return "silence"
    if is_steady_tone(source):
        if len(find_plateaus(source)) >= _LEAST_STEPS:
            return "staircase"
        try:
            find_burst(_loudest(source), source.rate)
        except BadParameter:
            return "tone"
        return "burst"
    sound = sound_of(source)
    if sound.is_sparse:
        return "clicks"
    if sound.is_sweep:
        return "sweep"
    return "steps" if find_steps(source) else "other"


def measure_by_input(stimulus: Source, render: Source) -> tuple[list[Reading], dict[str, Curve]]:
    """What a render tells beside what went into the effect, by the kind of signal; nothing of silence.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
    """
    signal = recognise(stimulus)
    if signal == "tone":
        told = measure_test_signal(stimulus, render)
        return told.render, told.curves
    measures: dict[Signal, Sequence[_Measure]] = {
        "staircase": (measure_curve,), "burst": (measure_dynamics,), "steps": (measure_alias_sweep,),
        "clicks": (measure_latency,), "sweep": (measure_response,), "other": (measure_response,),
    }  # fmt: skip
    readings: list[Reading] = []
    curves: dict[str, Curve] = {}
    for measure in measures.get(signal, ()):
        try:
            more, drawn = measure(stimulus, render)
        except BadParameter:
            continue  # as of a band that the rate does not carry
        readings += more
        curves |= drawn
    return readings, curves


def _loudest(source: Source) -> Floats:
    samples = source.read(0, min(source.frames, _MOST_FRAMES))
    return np.asarray(samples[:, int(np.square(samples).sum(axis=0).argmax())])
