"""White, pink or band noise."""

import math
from dataclasses import dataclass

import numpy as np

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.parameter import Color, End, Start
from kind_echo.core.signals.request import POWER_LEVEL, Mono, SignalRequest
from kind_echo.core.signals.shapes import top_frequency


@dataclass(frozen=True)
class Noise(SignalRequest):
    """Noise: pink falls by 3 dB an octave from 20 Hz up, band is flat between start and end."""

    kind = "noise"
    title = "Noise"
    purpose = "Response and coherence; null tests on all frequencies at once."
    level_means = POWER_LEVEL
    expect = "White has equal power in each hertz, pink in each octave. Peaks stand about 12 dB above the level."
    rank = 100
    method = "response"
    drawn = True

    color: Color = "white"
    start: Start = 20.0
    end: End = None

    def sound(self, frames: int, rate: int) -> Mono:
        """Noise of an exact RMS; shaped on its spectrum, so that it repeats without a seam."""
        white = np.random.default_rng(self.seed).standard_normal(frames)
        if self.color != "white":
            spectrum = np.fft.rfft(white)
            frequency = np.fft.rfftfreq(frames, 1 / rate)
            if self.color == "pink":
                spectrum *= np.sqrt(20.0 / np.maximum(frequency, 20.0))
            else:
                end = top_frequency(self.end, rate)
                if not 0.0 <= self.start < end <= rate / 2:
                    raise BadParameter("end", end, f"above the band's start and at most half the rate, {rate / 2:g} Hz")
                spectrum[(frequency < self.start) | (frequency > end)] = 0.0
            white = np.fft.irfft(spectrum, frames)
        power = float(np.mean(white**2))
        if power <= 0.0:
            raise BadParameter("seconds", self.seconds, "long enough to hold the band")
        return white * (self.amplitude / math.sqrt(2 * power))
