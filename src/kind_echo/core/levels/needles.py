"""What needles show along a file: loudness, a needle and peaks with hold, a value for each tenth of a second."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import MOST, Source, as_rows, blocks
from kind_echo.core.levels.loudness import LoudnessMeter
from kind_echo.core.levels.meters import LevelOptions, PeakMeter, needle_factor

Floats = NDArray[np.float64]

STEP_SECONDS = 0.1
HOLD_SECONDS = 1.5
FLOOR = -120.0
"""What is softer is shown as this."""


_USUAL = LevelOptions()


@dataclass(frozen=True)
class Needles:
    """Values at the end of each step of a tenth of a second, −120 for what is softer.

    Attributes:
        momentary, short: loudness in LUFS over the last 0.4 and 3 s, shape (steps,); −120 before the first window ends.
        needle: VU, the greatest within the step, shape (channels, steps).
        peak, true_peak: dBFS, the greatest of the last 1.5 s, shape (channels, steps).
    """

    momentary: Floats
    short: Floats
    needle: Floats
    peak: Floats
    true_peak: Floats


def needles_of(source: Source, options: LevelOptions = _USUAL) -> Needles:
    """What needles show along a file of at least one frame; one that is not finite counts as silence there.

    Source: ITU-R BS.1770-5 for loudness and true peak; IEC 60268-17 for the needle.
    """
    rate, channels = source.rate, source.channels
    step = max(1, round(STEP_SECONDS * rate))
    meter, loudness = PeakMeter(channels, rate, options), LoudnessMeter(channels, rate, source.frames)
    peaks, true_peaks, levels = [], [], []
    for _, block in blocks(source, size=step):
        rows = as_rows(block)
        rows = np.where(np.abs(rows) <= MOST, rows, 0.0)
        meter.add(rows)
        loudness.add(rows)
        true_peak, level = meter.take()
        peaks.append(np.abs(rows).max(axis=1))
        true_peaks.append(np.maximum(true_peak, peaks[-1]))
        levels.append(level)
    curves, ends = loudness.curves(), np.arange(1.0, len(peaks) + 1) * STEP_SECONDS
    return Needles(
        _at(ends, curves.momentary_time, curves.momentary), _at(ends, curves.short_time, curves.short),
        _decibels(np.array(levels).T * needle_factor(options)), _decibels(_held(np.array(peaks).T)),
        _decibels(_held(np.array(true_peaks).T)),
    )  # fmt: skip


def _at(ends: Floats, times: Floats, values: Floats) -> Floats:
    """The last value at or before each time."""
    place = np.searchsorted(times, ends + 1e-6, side="right") - 1
    if len(values) == 0:
        return np.full(len(ends), FLOOR)
    return np.where(place >= 0, np.maximum(values[np.maximum(place, 0)], FLOOR), FLOOR)


def _held(values: Floats) -> Floats:
    """The greatest of each step and those before it, as long as a peak is held."""
    steps = round(HOLD_SECONDS / STEP_SECONDS)
    held = values.copy()
    for back in range(1, min(steps, values.shape[1])):
        held[:, back:] = np.maximum(held[:, back:], values[:, :-back])
    return held


def _decibels(values: Floats) -> Floats:
    with np.errstate(divide="ignore"):
        return np.maximum(20.0 * np.log10(values), FLOOR)
