"""Silence."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.request import Mono, SignalRequest


@dataclass(frozen=True)
class Silence(SignalRequest):
    """Zeros."""

    kind = "silence"
    title = "Silence"
    purpose = "What an effect adds by itself: noise, DC, or NaN."
    level_means = ""
    expect = "Digital silence, or the noise floor that the effect is said to have."
    rank = 130

    def sound(self, frames: int, rate: int) -> Mono:
        """Zeros."""
        return np.zeros(frames)
