"""How far the takes of one cell lie apart."""

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import Source, is_finite
from kind_echo.core.comparison.compare import CompareOptions, alignment_for, check_pair
from kind_echo.core.comparison.gains import find_gains, fine_sums
from kind_echo.core.comparison.residual import residual_of, residual_readings
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.levels.integrity import NOT_FINITE
from kind_echo.core.registry.readings import Reading, silent

_AS_USUAL = CompareOptions()


def take_spread(takes: list[Source], options: CompareOptions = _AS_USUAL) -> Reading:
    """Greatest residual RMS between any two takes, in dBFS.

    Raises:
        RateMismatch, ChannelMismatch: the takes cannot be compared sample by sample.
    """
    spreads: list[Reading] = []
    for i, one in enumerate(takes):
        for other in takes[i + 1 :]:
            spreads.append(_residual_between(one, other, options))
    refused = [r for r in spreads if r.value is None and r.at_most is None]
    if refused:
        return Reading("take_spread", "all", None, refused[0].why)
    values = [r.value for r in spreads if r.value is not None]
    if not values:
        return silent("take_spread", "all", "all takes are identical", "null")
    return Reading("take_spread", "all", max(values))


def _residual_between(reference: Source, render: Source, options: CompareOptions) -> Reading:
    """The residual RMS that `compare` gives for a pair, without all the rest."""
    check_pair(reference, render)
    if not (is_finite(reference) and is_finite(render)):
        return Reading("residual_rms", "all", None, NOT_FINITE, reason="not finite")
    delay, _ = find_delays(reference, render, options.max_delay)
    whole_samples = Alignment(round(delay.samples or 0.0))
    lay = Aligner(render, reference.frames)
    whole = residual_of(reference, lay.at(whole_samples))
    gains = find_gains(reference, render, fine_sums(reference, lay, delay, whole), delay)
    alignment = alignment_for(options, delay, gains.factor or gains.level)
    used = whole
    if alignment != whole_samples:
        used = residual_of(reference, lay.at(alignment))
    if used.frames == 0:
        return Reading("residual_rms", "all", None, "the alignment leaves no overlap")
    readings = residual_readings(reference, used, None, below=False)
    return next(r for r in readings if (r.measure, r.channel) == ("residual_rms", "all"))
