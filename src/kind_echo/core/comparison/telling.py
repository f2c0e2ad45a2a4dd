"""Readings and notes of what comparing found, apart from the order in which it is found."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.align import Align, AlignedSource
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.levels.analysis import FileScan
from kind_echo.core.registry.measures import MEASURES, find_measure
from kind_echo.core.registry.readings import Reading, Reason, refuse, value_of

Floats = NDArray[np.float64]

_UPRIGHT_CORRELATION = 0.5  # squared correlation, under which a polarity is none (the design's)


def fitness(render: FileScan) -> list[Reading]:
    """What makes a render unfit by itself."""
    return [reading for reading in render.readings if reading.measure in ("non_finite", "silent")]


def not_finite(scans: tuple[FileScan, FileScan]) -> Cause:
    """The cause where reference or render holds samples that are not finite."""
    reference, render = (value_of(scan.readings, "non_finite") or 0.0 for scan in scans)
    if render:
        return Cause("non_finite", amount=render, why=f"{render:.0f} samples are NaN or infinite")
    return Cause("non_finite", amount=reference, why=f"{reference:.0f} samples of the reference are NaN or infinite")


def delay_readings(delay: Delay, each: list[Delay], rate: int, sums: Floats) -> list[Reading]:
    """Delay and polarity, over all and of each channel.

    Args:
        sums: x², x·y and y² by channel, with the delay off.
    """
    found = [d.samples for d in each if d.samples is not None]
    uneven = len(found) > 1 and max(found) - min(found) > 0.05
    note = "the channels differ by more than 0.05 sample" if uneven and delay.samples is not None else None
    if delay.samples is not None and not found:
        note = "of all channels added up: none has a delay of its own"
    readings: list[Reading] = []
    for key, factor in (("delay", 1.0), ("delay_time", 1000.0 / rate)):
        for name, one in zip(["all", *(str(c + 1) for c in range(len(each)))], [delay, *each], strict=True):
            value = None if one.samples is None else one.samples * factor
            spread = None if one.uncertainty is None else one.uncertainty * factor
            readings.append(
                Reading(key, name, value, one.why, spread, reason=one.reason).noted(note if name == "all" else None)
            )
    return readings + _polarities(delay, each, sums)


def _polarities(delay: Delay, each: list[Delay], sums: Floats) -> list[Reading]:
    """The sign of each channel, where most of the render is the reference at zero phase, to either sign."""
    scales = np.sqrt(sums[:, 0] * sums[:, 2])
    shares = np.divide(np.abs(sums[:, 1]), scales, out=np.zeros(len(scales)), where=scales > 0.0) ** 2
    common = (float(np.abs(sums[:, 1]).sum()) / float(scales.sum())) ** 2 if scales.any() else 0.0
    found = []
    for name, one, share in zip(["all", *(str(c + 1) for c in range(len(each)))], [delay, *each],
                                [common, *shares.tolist()], strict=True):  # fmt: skip
        why = (one.why or delay.why or "one side is silent") if one.polarity is None else None
        if why is None and share < _UPRIGHT_CORRELATION:
            why = f"the squared correlation at zero phase is {share:.2f}, under {_UPRIGHT_CORRELATION:.1f}"
        value = None if why is not None or one.polarity is None else float(one.polarity)
        found.append(Reading("polarity", name, value, why, reason=one.reason))
    mixed = len({one.value for one in found[1:] if one.value is not None}) > 1
    found[0] = found[0].noted("the channels differ in polarity" if mixed and found[0].value is not None else None)
    return found


def left_out(reference: Source, aligned: AlignedSource, frames: int, delay: Delay, align: Align) -> str | None:
    """What beside a residual tells over what it was taken."""
    notes = []
    missing = max(reference.frames, aligned.render.frames) - frames
    if missing:
        # By a fraction, some that have a partner cannot be moved: the filter that does it ends before the file does.
        which = "at the ends" if align == "fraction" else "without a partner"
        notes.append(f"{missing} {'frame' if missing == 1 else 'frames'} {which} left out")
    if align != "none" and delay.samples is None:
        notes.append("no delay taken off, for none was found")
    return "; ".join(notes) or None


def of_samples() -> list[str]:
    """What is told of a pair by its samples, where nothing further was asked for."""
    lengths_and_options = ("length_difference", "changed_below")
    return [key for key, measure in MEASURES.items() if measure.needs == "pair" and key not in lengths_and_options]


def refused(measures: Sequence[str], channels: int, why: str, reason: Reason | None = None) -> list[Reading]:
    """No reading for each of the measures, in every channel that they are told of."""
    common = [key for key in measures if find_measure(key).common]
    found = refuse([key for key in measures if key not in common], channels, why, reason)
    return found + [Reading(key, "all", None, why, reason=reason) for key in common]
