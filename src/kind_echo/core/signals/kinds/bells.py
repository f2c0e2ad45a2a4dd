"""Strikes of a bell buoy."""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.request import Mono, SignalRequest
from kind_echo.core.signals.shapes import add_body

# s; a whole number of frames at every rate that is a multiple of 25 Hz, so the peak is sampled exactly
_STRIKE_GRID = 0.04
_CLAPPER = 30e-6  # s, standard deviation of the contact pulse: 2 to 8 samples wide, −75 dB at 22 kHz
_REACH = 40  # standard deviations beyond which it is nothing at all in 64 bits


@dataclass(frozen=True)
class Bells(SignalRequest):
    """Strikes of a bell buoy in a swell: a contact a few samples long, then inharmonic partials that ring on."""

    kind = "bells"
    title = "Bell buoy strikes"
    purpose = "Peaks a few samples long, then a long ring: what steady tones do not show."
    expect = (
        "A limiter or clipper meets peaks between samples here; a compressor must catch the contact or let it pass, by "
        "its character."
    )
    rank = 110
    drawn = True

    def sound(self, frames: int, rate: int) -> Mono:
        """The strikes, the first one the loudest."""
        if self.seconds < 2 * _STRIKE_GRID:
            raise BadParameter("seconds", self.seconds, f"at least {2 * _STRIKE_GRID:g} for a strike")
        rng = np.random.default_rng(self.seed)
        time = np.arange(frames) / rate
        sound = np.zeros(frames)
        strike = _STRIKE_GRID
        loudest = True
        while strike < self.seconds:
            force = 1.0 if loudest else float(rng.uniform(0.45, 0.9))
            loudest = False
            near = slice(*np.searchsorted(time, (strike - _REACH * _CLAPPER, strike + _REACH * _CLAPPER)))
            sound[near] += force * np.exp(-0.5 * np.square((time[near] - strike) / _CLAPPER))
            add_body(sound, time, strike, 0.5 * force, rng)
            strike += _STRIKE_GRID * int(rng.integers(14, 24))
        edge = np.minimum(1.0, (frames - np.arange(frames)) / max(1.0, 0.02 * rate))
        sound *= edge
        return np.asarray(sound * (self.amplitude / float(np.abs(sound).max())))
