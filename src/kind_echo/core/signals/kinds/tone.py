"""A steady sine."""

import math
from dataclasses import dataclass

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.parameter import Coherent, Fade, Frequency
from kind_echo.core.signals.request import SINE_LEVEL, Mono, SignalRequest
from kind_echo.core.signals.shapes import below_half, check_fade, fades, sine

_RATES = (44_100, 48_000, 88_200, 96_000, 176_400, 192_000)


@dataclass(frozen=True)
class Tone(SignalRequest):
    """A steady sine.

    Attributes:
        coherent: it is moved to the nearest prime number of cycles in its seconds, so that no alias of it falls on a
            harmonic.
    """

    kind = "tone"
    title = "Steady tone"
    purpose = "Harmonics, noise and aliases; gain at one frequency."
    level_means = SINE_LEVEL
    expect = (
        "Harmonics at multiples of the frequency. Those beyond half the rate fold back, unless the effect keeps them "
        "away."
    )
    rank = 10
    method = "tone"

    frequency: Frequency = 997.0
    coherent: Coherent = False
    fade: Fade = 0.01

    def __post_init__(self) -> None:
        super().__post_init__()
        check_fade(self.fade, self.seconds)

    @property
    def one_sine(self) -> float:
        """The frequency that is played: as asked for, or that of the nearest prime number of cycles.

        A prime number of cycles shares no factor with the number of samples, so all multiples of it fall on different
        bins.
        """
        if not self.coherent:
            return self.frequency
        wished = self.frequency * self.seconds
        for distance in range(max(4, round(wished))):
            for cycles in (round(wished) - distance, round(wished) + distance):
                shared = any(round(self.seconds * rate) % max(cycles, 1) == 0 for rate in _RATES)
                if _is_prime(cycles) and not shared:
                    return cycles / self.seconds
        raise BadParameter("frequency", self.frequency, "some cycles long, to be coherent")

    def sound(self, frames: int, rate: int) -> Mono:
        """A sine, faded at both ends."""
        below_half("frequency", self.one_sine, rate)
        return self.amplitude * sine(self.one_sine, frames, rate) * fades(self.fade, frames, rate)


def _is_prime(number: int) -> bool:
    return number > 1 and all(number % factor for factor in range(2, math.isqrt(number) + 1))
