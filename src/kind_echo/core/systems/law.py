"""What a compressor's law says should come out of any signal, and by how much each kind of level misses it."""

import numpy as np

from kind_echo.core.audio.source import Source
from kind_echo.core.comparison.pair import check_pair
from kind_echo.core.levels.analysis import measure
from kind_echo.core.registry.readings import Reading, value_of
from kind_echo.core.systems.transfer import ExpectedCurve, sine_level
from kind_echo.core.tones.lines import steady_part

_KINDS = {"law_error_peak": "sample_peak", "law_error_rms": "rms", "law_error_loudness": "loudness_integrated"}
MEASURES = ("law_level", "law_error_tone", *_KINDS)
_GONE_DBFS = -140.0  # dBFS of a tone that is not there


def measure_law(source: Source, output: Source, law: ExpectedCurve, tone: float | None = None) -> list[Reading]:
    """The level that is expected out of the input's sample peak, and the error of the gain by each kind of level.

    The law names a gain for the peak going in. By each kind of level the gain is what comes out less what went in, dB:
    of a steady tone all of them agree, of hits they part. Levels are of the whole file, so a delay does not matter.

    Args:
        tone: frequency of the steady tone that the input is, Hz; None where it is none.
    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
    """
    check_pair(source, output)
    before, after = measure(source), measure(output)
    peak = value_of(before, "sample_peak")
    if peak is None:
        why = next(reading.why for reading in before if reading.measure == "sample_peak") or "the input is silent"
        return [Reading(key, "all", None, why) for key in MEASURES]
    expected = float(law.level(np.array([peak]))[0])
    readings = [Reading("law_level", "all", expected), _of_tone(source, output, expected - peak, tone)]
    for key, kind in _KINDS.items():
        level_in, level_out = (value_of(found, kind) for found in (before, after))
        if level_in is None or level_out is None:
            readings.append(Reading(key, "all", None, f"no {kind.replace('_', ' ')} on one side"))
        else:
            readings.append(Reading(key, "all", level_out - level_in - (expected - peak)))
    return readings


def _of_tone(source: Source, output: Source, gain: float, tone: float | None) -> Reading:
    if tone is None:
        return Reading("law_error_tone", "all", None, "the input is no steady tone")
    levels = []
    for side in (source, output):
        start, stop = steady_part(side)
        samples = side.read(start, stop)
        if not np.isfinite(samples).all():
            return Reading("law_error_tone", "all", None, "a file has NaN or infinite samples", reason="not finite")
        levels.append(max(sine_level(samples[:, c], tone, side.rate) for c in range(side.channels)))
    if levels[1] < _GONE_DBFS:
        return Reading("law_error_tone", "all", None, "the test signal is not in the render")
    return Reading("law_error_tone", "all", levels[1] - levels[0] - gain)
