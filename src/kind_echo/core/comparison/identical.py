"""What is known of a pair of one and the same audio."""

from dataclasses import replace

from kind_echo.core.audio.align import Alignment
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.comparison.account import STEPS
from kind_echo.core.comparison.pair import Comparison
from kind_echo.core.comparison.residual import perfect_null
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.readings import for_channels, null


def readings_of_identical(source: Source) -> Comparison:
    """What follows for a pair from its being one and the same audio, without comparing it."""
    note = "identical audio"
    exact = {"length_difference": 0.0, "identical": 1.0, "delay": 0.0, "delay_time": 0.0, "delay_drift": 0.0,
             "polarity": 1.0, "gain": 0.0, "gain_in_phase": 0.0, "changed_samples": 0.0, "changed_share": 0.0,
             "changed_regions": 0.0, "longest_change": 0.0, "lead_in_excess": 0.0, "gaps": 0.0, "clicks": 0.0,
             "channel_swap": 0.0, "channel_missing": 0.0}  # fmt: skip
    readings = [
        replace(reading.noted(note), reason="identical")
        for key, value in exact.items()
        for reading in for_channels(key, [value] * source.channels, value)
        if reading.channel == "all" or not find_measure(key).common
    ]
    names = ["all", *(str(c + 1) for c in range(source.channels))]
    for key in ("residual_peak", "residual_rms", *STEPS):
        readings += [null(key, name) for name in names]
    readings += [perfect_null(name) for name in names]
    readings.append(null("residual_loudness", "all"))
    return Comparison(readings, Alignment(), [Cause("none")], is_deep=True)
