"""Tones one after the other, over the whole band."""

import math
from dataclasses import dataclass

import numpy as np

from kind_echo.core.signals.parameter import End, Fade, PerOctave, Start, StepSeconds
from kind_echo.core.signals.request import SINE_LEVEL, Mono, SignalRequest
from kind_echo.core.signals.shapes import below_half, check_fade, fades, sine, top_frequency


@dataclass(frozen=True)
class Steps(SignalRequest):
    """Tones from start to end, evenly spaced in octaves, each faded at its ends."""

    kind = "steps"
    title = "Stepped tones"
    purpose = "Aliases over the whole band, step by step."
    level_means = SINE_LEVEL
    expect = "On the map, harmonics climb to half the rate; what comes down again from there, or from zero, is folded."
    rank = 20
    method = "alias_sweep"
    own_length = True

    start: Start = 20.0
    end: End = None
    per_octave: PerOctave = 12.0
    step_seconds: StepSeconds = 0.5
    fade: Fade = 0.01

    def __post_init__(self) -> None:
        super().__post_init__()
        check_fade(self.fade, self.step_seconds)

    def _count(self, rate: int) -> int:
        octaves = math.log2(max(1.0, top_frequency(self.end, rate) / self.start))
        return int(octaves * self.per_octave + 1e-9) + 1

    def sound_seconds(self, rate: int) -> float:
        """As many steps as the band has at the rate."""
        return self._count(rate) * self.step_seconds

    def sound(self, frames: int, rate: int) -> Mono:
        """The tones, each as long as a step."""
        below_half("start", self.start, rate)
        below_half("end", top_frequency(self.end, rate), rate)
        size = round(self.step_seconds * rate)
        fade = fades(self.fade, size, rate)
        tones = [self.start * 2 ** (k / self.per_octave) for k in range(self._count(rate))]
        return self.amplitude * np.concatenate([sine(frequency, size, rate) * fade for frequency in tones])
