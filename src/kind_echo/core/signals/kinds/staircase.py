"""A tone whose level climbs."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.parameter import Climb, Frequency, Lowest, StepSeconds, within
from kind_echo.core.signals.request import Mono, SignalRequest
from kind_echo.core.signals.shapes import below_half, sine


@dataclass(frozen=True)
class Staircase(SignalRequest):
    """One sine of continuous phase whose level climbs step by step, from the lowest up to the level."""

    kind = "staircase"
    title = "Level staircase"
    purpose = "The transfer curve: level out against level in."
    level_means = "dBFS, the peak of the last step"
    expect = (
        "Below the threshold the curve is a line of slope 1; above it, of one over the ratio. A gap below the "
        "threshold is a hidden gain."
    )
    rank = 50
    method = "transfer"
    own_length = True

    frequency: Frequency = 997.0
    lowest: Lowest = -60.0
    climb: Climb = 2.0
    step_seconds: StepSeconds = 0.5

    def __post_init__(self) -> None:
        super().__post_init__()
        within("lowest", self.lowest, -140.0, self.level)

    def _levels(self) -> Mono:
        return np.arange(self.lowest, self.level + 1e-9, self.climb)

    @property
    def one_sine(self) -> float:
        """The frequency in Hz."""
        return self.frequency

    def sound_seconds(self, rate: int) -> float:
        """As many steps as there are levels."""
        return len(self._levels()) * self.step_seconds

    def sound(self, frames: int, rate: int) -> Mono:
        """The sine, each level as long as a step."""
        below_half("frequency", self.frequency, rate)
        heights = np.repeat(10 ** (self._levels() / 20), round(self.step_seconds * rate))
        return heights * sine(self.frequency, len(heights), rate)
