"""A sine whose frequency runs through the band."""

import math
from dataclasses import dataclass

import numpy as np

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.parameter import End, Fade, Law, Start
from kind_echo.core.signals.request import SINE_LEVEL, Mono, SignalRequest
from kind_echo.core.signals.shapes import below_half, check_fade, fades, top_frequency


@dataclass(frozen=True)
class Sweep(SignalRequest):
    """A sine from start to end; by its law its frequency grows in proportion to itself, or evenly."""

    kind = "sweep"
    title = "Sine sweep"
    purpose = "Magnitude, phase and group delay in one pass."
    level_means = SINE_LEVEL
    expect = "An idle effect gives a flat line and no phase beyond its latency."
    rank = 30
    method = "response"

    start: Start = 20.0
    end: End = None
    law: Law = "exponential"
    fade: Fade = 0.01

    def __post_init__(self) -> None:
        super().__post_init__()
        check_fade(self.fade, self.seconds)

    def sound(self, frames: int, rate: int) -> Mono:
        """Source: A. Farina, Simultaneous measurement of impulse response and distortion …, AES 108 (2000)."""
        end = top_frequency(self.end, rate)
        below_half("start", self.start, rate)
        below_half("end", end, rate)
        if self.start == end:
            raise BadParameter("end", end, "different from the start of the sweep")
        time = np.arange(frames) / rate
        if self.law == "linear":
            cycles = self.start * time + (end - self.start) * time**2 / (2 * self.seconds)
        else:
            growth = math.log(end / self.start)
            cycles = self.start * self.seconds / growth * np.expm1(time / self.seconds * growth)
        return self.amplitude * np.sin(2 * np.pi * np.mod(cycles, 1.0)) * fades(self.fade, frames, rate)
