"""How far the takes of one cell lie apart."""

from kind_echo.core.audio.align import Aligner, Alignment
from kind_echo.core.audio.source import Source, is_finite
from kind_echo.core.comparison.gains import find_gains, fine_sums
from kind_echo.core.comparison.pair import USUAL, CompareOptions, alignment_for, check_pair
from kind_echo.core.comparison.residual import residual_of, residual_readings
from kind_echo.core.delays.delay import find_delays
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.levels.integrity import NOT_FINITE
from kind_echo.core.registry.readings import Reading, silent


def take_readings(takes: list[Source], options: CompareOptions = USUAL) -> list[Reading]:
    """Greatest residual RMS between any two takes, in dBFS, and greatest delay between any, in samples.

    Raises:
        RateMismatch, ChannelMismatch: the takes cannot be compared sample by sample.
    """
    pairs = [_between(one, other, options) for i, one in enumerate(takes) for other in takes[i + 1 :]]
    return [_spread([spread for spread, _ in pairs]), _shift([delay for _, delay in pairs])]


def take_spread(takes: list[Source], options: CompareOptions = USUAL) -> Reading:
    """Greatest residual RMS between any two takes, in dBFS. Raises what `take_readings` raises."""
    return take_readings(takes, options)[0]


def _shift(delays: list[Delay | None]) -> Reading:
    told = [delay.nearest for delay in delays if delay is not None and delay.nearest is not None]
    if len(told) < len(delays):
        why = next((delay.why for delay in delays if delay is not None and delay.nearest is None), NOT_FINITE)
        return Reading("take_shift", "all", None, why or "no delay is told between two of them")
    return Reading("take_shift", "all", max(map(abs, told), default=0.0))


def _spread(spreads: list[Reading]) -> Reading:
    refused = [r for r in spreads if r.value is None and r.at_most is None]
    if refused:
        return Reading("take_spread", "all", None, refused[0].why)
    values = [r.value for r in spreads if r.value is not None]
    if not values:
        return silent("take_spread", "all", "all takes are identical", "null")
    return Reading("take_spread", "all", max(values))


def _between(reference: Source, render: Source, options: CompareOptions) -> tuple[Reading, Delay | None]:
    """The residual RMS and the delay that `compare` gives for a pair, without all the rest."""
    check_pair(reference, render)
    if not (is_finite(reference) and is_finite(render)):
        return Reading("residual_rms", "all", None, NOT_FINITE, reason="not finite"), None
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
        return Reading("residual_rms", "all", None, "the alignment leaves no overlap"), delay
    readings = residual_readings(reference, used, None, below=False)
    return next(r for r in readings if (r.measure, r.channel) == ("residual_rms", "all")), delay
