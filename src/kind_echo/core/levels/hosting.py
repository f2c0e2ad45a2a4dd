"""What the blocks of a hosted effect took, and what it did that only its host can see."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.readings import Reading, silent


@dataclass(frozen=True)
class HostedBlocks:
    """What a host saw of an effect.

    Attributes:
        loaded: seconds until it could be used.
        first, median, most, worst: seconds of the first block; of all, by rank 50 %, 99 % and 100 %.
        decay: median of the last quarter of all blocks over that of the first quarter.
        wrote_input: it changed samples that it was only to read; None where that cannot be told.
        late: blocks that were not ready at their time; None where they did not wait for it.
    """

    loaded: float
    first: float
    median: float
    most: float
    worst: float
    decay: float
    wrote_input: bool | None = None
    late: int | None = None


_END_SECONDS = 0.5


def latency_told(frames: int) -> Reading:
    """The latency that an effect tells its host, in samples."""
    return Reading("latency_told", "all", float(frames))


def hosting_readings(seen: HostedBlocks, samples: Samples, rate: int) -> list[Reading]:
    """The family "hosting"; times in ms.

    Args:
        samples: the render, shape (frames, channels).
    """
    times = {
        "load_time": seen.loaded, "block_first": seen.first, "block_median": seen.median, "block_99": seen.most,
        "block_worst": seen.worst,
    }  # fmt: skip
    readings = [Reading(key, "all", 1000.0 * seconds) for key, seconds in times.items()]
    readings.append(Reading("block_decay", "all", seen.decay))
    readings.append(_end_level(samples[-max(1, round(_END_SECONDS * rate)) :]))
    # A host library that cannot see it says nothing: that is no reading, and none that is missed.
    written = [] if seen.wrote_input is None else [Reading("input_written", "all", float(seen.wrote_input))]
    late = [] if seen.late is None else [Reading("blocks_late", "all", float(seen.late))]
    return readings + written + late


def _end_level(end: Samples) -> Reading:
    peak = float(np.abs(end).max(initial=0.0))
    if not np.isfinite(peak):
        return Reading("end_level", "all", None, "samples of the end are not finite", reason="not finite")
    if peak == 0.0:
        return silent("end_level", "all", "the end is silent")
    return Reading("end_level", "all", 20.0 * float(np.log10(peak)))
