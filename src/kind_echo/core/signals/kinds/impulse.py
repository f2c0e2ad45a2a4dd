"""One sample that is not zero."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.request import Mono, SignalRequest


@dataclass(frozen=True)
class Impulse(SignalRequest):
    """One sample at an eighth of the time."""

    kind = "impulse"
    title = "Impulse"
    purpose = "The impulse response, and latency."
    expect = "What comes before the main peak is look-ahead or a linear-phase filter."
    rank = 80
    method = "response"

    def sound(self, frames: int, rate: int) -> Mono:
        """The impulse."""
        sound = np.zeros(frames)
        sound[min(frames - 1, frames // 8)] = self.amplitude
        return sound
