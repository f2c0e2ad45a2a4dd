"""What a pair tells beside its difference, where its reference is a sound of one frequency."""

from dataclasses import dataclass, field

import numpy as np

from kind_echo.core.audio.source import Source, is_finite
from kind_echo.core.delays.periods import is_steady_tone
from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.readings import Curve, Reading, value_of


@dataclass(frozen=True)
class OfTestSignal:
    """What a test signal tells.

    Attributes:
        reference: readings of the reference by itself.
        render: readings of the render.
        curves: of the render.
    """

    reference: list[Reading] = field(default_factory=list)
    render: list[Reading] = field(default_factory=list)
    curves: dict[str, Curve] = field(default_factory=dict)


def measure_test_signal(reference: Source, render: Source) -> OfTestSignal:
    """The measures that fit a sound of one frequency; nothing of any other.

    Of a staircase of levels, the level out for each level in; of a burst, how fast a gain follows it; of a tone that
    stands still, level, harmonics, aliases and noise of both sides.

    Raises:
        RateMismatch, ChannelMismatch: the two do not belong together.
    """
    with np.errstate(invalid="ignore"):  # what is not finite is no tone
        steady = is_steady_tone(reference)
    if not (steady and is_finite(reference) and is_finite(render)):
        return OfTestSignal()
    # Slow to load, and of most pairs not needed.
    from kind_echo.core.systems.dynamics import measure_dynamics
    from kind_echo.core.systems.transfer import measure_curve
    from kind_echo.core.tones.tone import ToneOptions, measure_tone

    for measure in (measure_curve, measure_dynamics):
        try:
            readings, curves = measure(reference, render)
        except BadParameter:
            continue  # it is another signal
        return OfTestSignal([], readings, curves)
    own, _ = measure_tone(reference)
    frequency = value_of(own, "fundamental_frequency")
    if frequency is None:
        return OfTestSignal()
    return OfTestSignal(own, *measure_tone(render, ToneOptions(frequency)))
