"""Two sines at once."""

from dataclasses import dataclass

from kind_echo.core.signals.parameter import Fade, Frequency, Ratio, SecondFrequency
from kind_echo.core.signals.request import Mono, SignalRequest
from kind_echo.core.signals.shapes import below_half, check_fade, fades, sine


@dataclass(frozen=True)
class Pair(SignalRequest):
    """Two sines whose amplitudes, the first over the second, stand in a ratio and add up to the level."""

    kind = "pair"
    title = "Two tones"
    purpose = "Intermodulation: 60 Hz and 7 kHz at 4:1, or 19 and 20 kHz at 1:1."
    level_means = "dBFS, the peak of the sum"
    expect = (
        "Sums and differences of the two: beside the upper tone for 60 Hz and 7 kHz, at 1 kHz and around the pair for "
        "19 and 20 kHz."
    )
    rank = 40
    method = "imd"

    frequency: Frequency = 997.0
    second: SecondFrequency = 7000.0
    ratio: Ratio = 4.0
    fade: Fade = 0.01

    def __post_init__(self) -> None:
        super().__post_init__()
        check_fade(self.fade, self.seconds)

    @property
    def two_sines(self) -> tuple[float, float]:
        """Both frequencies in Hz."""
        return self.frequency, self.second

    def sound(self, frames: int, rate: int) -> Mono:
        """The sum of both, faded at both ends."""
        below_half("frequency", self.frequency, rate)
        below_half("second", self.second, rate)
        upper = self.amplitude / (1 + self.ratio)
        both = self.ratio * sine(self.frequency, frames, rate) + sine(self.second, frames, rate)
        return upper * both * fades(self.fade, frames, rate)
