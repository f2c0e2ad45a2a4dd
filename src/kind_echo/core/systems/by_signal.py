"""A render beside the signal that went in: levels, integrity, and what that kind of signal tells of the effect."""

from kind_echo.core.audio.source import Source
from kind_echo.core.levels.analysis import measure_render
from kind_echo.core.levels.loudness import LoudnessCurves
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Reading
from kind_echo.core.signals import OwnFile, SignalRequest, Stimulus
from kind_echo.core.systems.dynamics import measure_dynamics
from kind_echo.core.systems.latency import LatencyOptions, measure_latency
from kind_echo.core.systems.law import measure_law
from kind_echo.core.systems.response import measure_response
from kind_echo.core.systems.transfer import ExpectedCurve, measure_curve
from kind_echo.core.tones.alias_sweep import measure_alias_sweep
from kind_echo.core.tones.imd import measure_imd
from kind_echo.core.tones.tone import ToneOptions, measure_tone

Measured = tuple[list[Reading], dict[str, Curve]]


def measure_beside_signal(
    asked: Stimulus,
    stimulus: Source,
    render: Source,
    *,
    claimed: float | None = None,
    law: ExpectedCurve | None = None,
) -> tuple[list[Reading], LoudnessCurves | None, dict[str, Curve]]:
    """All that is measured of a render and its stimulus: readings, loudness over time, and curves.

    Of one that is not finite there is no loudness, and no curve. Arguments as of `measure_by_signal`.

    Raises:
        RateMismatch, ChannelMismatch: it is no render of that stimulus.
    """
    readings, loudness = measure_render(stimulus, render)
    if loudness is None:
        return readings, None, {}
    more, curves = measure_by_signal(asked, stimulus, render, claimed=claimed, law=law)
    return [*readings, *more], loudness, curves


def measure_by_signal(
    asked: Stimulus,
    stimulus: Source,
    render: Source,
    *,
    claimed: float | None = None,
    law: ExpectedCurve | None = None,
) -> Measured:
    """The measures and curves that fit a kind of signal; of programme what a law expects alone, and none without one.

    Args:
        asked: what the stimulus is.
        claimed: frames of latency that the render should still have; None where nothing tells.
        law: what is expected of a compressor.
    """
    readings, curves = ([], {}) if isinstance(asked, OwnFile) else _by_method(asked, stimulus, render, claimed, law)
    if law is not None and asked.method != "transfer":
        readings = [*readings, *measure_law(stimulus, render, law, asked.one_sine)]
    return readings, curves


def _by_method(
    asked: SignalRequest, stimulus: Source, render: Source, claimed: float | None, law: ExpectedCurve | None
) -> Measured:
    try:
        match asked.method:
            case "tone" if asked.one_sine is not None:
                return measure_tone(render, ToneOptions(asked.one_sine))
            case "imd" if asked.two_sines is not None:
                return measure_imd(render, asked.two_sines)
            case "alias_sweep":
                return measure_alias_sweep(stimulus, render)
            case "response":
                return measure_response(stimulus, render)
            case "latency":
                return measure_latency(stimulus, render, LatencyOptions(claimed))
            case "transfer":
                return measure_curve(stimulus, render, law)
            case "dynamics":
                return measure_dynamics(stimulus, render)
    except BadParameter:
        # A plan may ask for a stimulus that a rate does not carry; what it cannot tell is left out, and the rest stays.
        return [], {}
    return [], {}
