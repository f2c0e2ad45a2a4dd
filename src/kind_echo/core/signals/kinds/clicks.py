"""Clicks on a grid at a tempo."""

import math
from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.parameter import Tempo
from kind_echo.core.signals.request import Mono, SignalRequest


@dataclass(frozen=True)
class Clicks(SignalRequest):
    """A wide-band pulse of half a millisecond on every beat."""

    kind = "clicks"
    title = "Click grid"
    purpose = "Latency, event by event, and whether it holds."
    expect = "Every click as late as the effect claims, the first one too."
    rank = 70
    method = "latency"

    tempo: Tempo = 120.0

    def sound(self, frames: int, rate: int) -> Mono:
        """The pulses, one a beat."""
        sound = np.zeros(frames)
        time = np.arange(round(0.004 * rate)) / rate
        pulse = np.exp(-time / 0.0004) * np.sin(2 * np.pi * 2500.0 * time + 0.6)
        pulse *= self.amplitude / float(np.abs(pulse).max())
        for beat in range(math.ceil(self.seconds * self.tempo / 60)):
            at = round(beat * 60 / self.tempo * rate)
            room = min(len(pulse), frames - at)
            sound[at : at + room] += pulse[:room]
        return sound
