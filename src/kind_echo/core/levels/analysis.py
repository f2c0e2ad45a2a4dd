"""The measures of one file, in one pass, alone or beside the stimulus that it is a render of."""

from dataclasses import dataclass, field

import numpy as np

from kind_echo.core.audio.source import MOST, PASS, Source, as_rows, blocks
from kind_echo.core.compiled.gate import scan
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.levels.added import added_readings, refused_readings
from kind_echo.core.levels.integrity import NOT_FINITE, IntegrityMeter, lead_in_excess
from kind_echo.core.levels.loudness import MEASURES as LOUDNESS
from kind_echo.core.levels.loudness import LoudnessCurves, LoudnessMeter
from kind_echo.core.levels.meters import LevelMeter, LevelOptions, PeakMeter
from kind_echo.core.registry.errors import ChannelMismatch, RateMismatch
from kind_echo.core.registry.readings import Reading, for_channels, refuse, value_of

_LEVELS = (
    "sample_peak", "rms", "rms_raw", "crest_factor", "dc_offset",
    "rms_window_max", "rms_window_min", "rms_window_range", "true_peak", "vu_max",
)  # fmt: skip
_MATTERS_SECONDS = 0.001  # s of silence at the start that are looked into
_LOUD = (*LOUDNESS, "peak_to_loudness")


@dataclass(frozen=True)
class MeasureOptions:
    """How a file is measured.

    Attributes:
        mono_as_dual: a single channel counts as two equal speakers for loudness.
    """

    levels: LevelOptions = field(default_factory=LevelOptions)
    mono_as_dual: bool = False


@dataclass(frozen=True)
class FileScan:
    """What one pass over a file tells.

    Attributes:
        curves: None for a file that is not finite.
    """

    readings: list[Reading]
    integrity: IntegrityMeter
    curves: LoudnessCurves | None

    @property
    def finite(self) -> bool:
        """Whether every sample is a number."""
        return not self.integrity.non_finite.any()


def scan_file(source: Source, options: MeasureOptions = MeasureOptions()) -> FileScan:
    """Integrity, levels and loudness of a file of at least one frame; one with NaN or Inf gets integrity alone."""
    channels = source.channels
    integrity = IntegrityMeter(channels, source.rate, source.rail)
    levels = LevelMeter(channels, source.rate, source.frames, options.levels)
    peaks = PeakMeter(channels, source.rate, options.levels)
    loudness = LoudnessMeter(channels, source.rate, source.frames, mono_as_dual=options.mono_as_dual)
    broken = False
    for _, block in blocks(source, size=PASS):
        rows, block_peak = as_rows(block), np.zeros(channels)
        scan(rows, block_peak, levels.energy, levels.total)
        broken = broken or not (np.isfinite(levels.energy).all() and (block_peak <= MOST).all())
        if broken:
            integrity.count_not_finite(rows)
            continue
        levels.peak = np.maximum(levels.peak, block_peak)
        integrity.add(rows, block_peak)
        for meter in (levels, peaks, loudness):
            meter.add(rows)
    readings = integrity.readings()
    if broken:
        readings += refuse(_LEVELS, channels, NOT_FINITE, "not finite") + refused_readings(channels, NOT_FINITE)
        readings += [Reading(key, "all", None, NOT_FINITE, reason="not finite") for key in _LOUD]
        return FileScan(readings, integrity, None)
    readings += levels.readings() + peaks.readings() + loudness.readings()
    readings.append(_peak_to_loudness(readings))
    readings += added_readings(source)
    return FileScan(readings, integrity, loudness.curves())


def measure(source: Source, options: MeasureOptions = MeasureOptions()) -> list[Reading]:
    """The readings of `scan_file`."""
    return scan_file(source, options).readings


def measure_render(stimulus: Source, render: Source) -> tuple[list[Reading], LoudnessCurves | None]:
    """Measures of a render, and what it lacks of its stimulus: silence at the start, length; its loudness over time.

    Raises:
        RateMismatch, ChannelMismatch: it is no render of that stimulus.
    """
    if stimulus.rate != render.rate:
        raise RateMismatch(stimulus.rate, render.rate)
    if stimulus.channels != render.channels:
        raise ChannelMismatch(stimulus.channels, render.channels)
    found = scan_file(render)
    difference = float(render.frames - stimulus.frames)
    readings = found.readings + for_channels("length_difference", [difference] * render.channels, difference)
    if not found.finite:
        return readings + refuse(("lead_in_excess",), render.channels, NOT_FINITE, "not finite"), None
    wanted, came = scan_file(stimulus).integrity, found.integrity
    excess = lead_in_excess(wanted, came, [0.0] * render.channels)
    if any((reading.value or 0.0) > _MATTERS_SECONDS for reading in excess):
        # Silence at the start, or all of it late? Only the delay tells, and it is dear.
        late = [delay.samples or 0.0 for delay in find_delays(stimulus, render)[1]]
        excess = lead_in_excess(wanted, came, late)
    return readings + excess, found.curves


def _peak_to_loudness(readings: list[Reading]) -> Reading:
    peak, loudness = value_of(readings, "true_peak"), value_of(readings, "loudness_integrated")
    if peak is None or loudness is None:
        why = next(r.why for r in readings if r.measure == "loudness_integrated" and r.channel == "all")
        return Reading("peak_to_loudness", "all", None, why)
    return Reading("peak_to_loudness", "all", peak - loudness)
