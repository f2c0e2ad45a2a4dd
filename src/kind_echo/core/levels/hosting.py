"""What the blocks of a hosted effect took, and what it did that only its host can see."""

from dataclasses import dataclass

from kind_echo.core.registry.readings import Reading


@dataclass(frozen=True)
class HostedBlocks:
    """What a host saw of an effect.

    Attributes:
        loaded: seconds until it could be used.
        first, median, most, worst: seconds of the first block; of all, by rank 50 %, 99 % and 100 %.
        decay: median of the last quarter of all blocks over that of the first quarter.
        wrote_input: it changed samples that it was only to read; None where that cannot be told.
    """

    loaded: float
    first: float
    median: float
    most: float
    worst: float
    decay: float
    wrote_input: bool | None = None


def hosting_readings(seen: HostedBlocks) -> list[Reading]:
    """The family "hosting"; times in ms."""
    times = {
        "load_time": seen.loaded, "block_first": seen.first, "block_median": seen.median, "block_99": seen.most,
        "block_worst": seen.worst,
    }  # fmt: skip
    readings = [Reading(key, "all", 1000.0 * seconds) for key, seconds in times.items()]
    readings.append(Reading("block_decay", "all", seen.decay))
    # A host library that cannot see it says nothing: that is no reading, and none that is missed.
    written = [] if seen.wrote_input is None else [Reading("input_written", "all", float(seen.wrote_input))]
    return readings + written
