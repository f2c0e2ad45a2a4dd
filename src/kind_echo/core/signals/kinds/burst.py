"""A tone that is low, high, and low again."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.parameter import Frequency, Low
from kind_echo.core.signals.request import Mono, SignalRequest
from kind_echo.core.signals.shapes import below_half, sine


@dataclass(frozen=True)
class Burst(SignalRequest):
    """A tone: a quarter of the time low, a quarter high, half of it low."""

    kind = "burst"
    title = "Tone burst"
    purpose = "Attack, release, overshoot and look-ahead."
    level_means = "dBFS, the peak of the high part"
    expect = "Gain falls after the step up with the attack, and recovers after the step down with the release."
    rank = 60
    method = "dynamics"

    frequency: Frequency = 997.0
    low: Low = 20.0

    @property
    def one_sine(self) -> float:
        """The frequency in Hz."""
        return self.frequency

    def sound(self, frames: int, rate: int) -> Mono:
        """The tone under its envelope."""
        below_half("frequency", self.frequency, rate)
        envelope = np.full(frames, 10 ** (-self.low / 20))
        envelope[frames // 4 : frames // 2] = 1.0
        return self.amplitude * envelope * sine(self.frequency, frames, rate)
