"""Short pieces of programme."""

import math
from dataclasses import dataclass

import numpy as np

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.parameter import Density, Piece
from kind_echo.core.signals.programme import play
from kind_echo.core.signals.request import POWER_LEVEL, Mono, SignalRequest


@dataclass(frozen=True)
class Programme(SignalRequest):
    """One of five pieces, sparse or dense."""

    kind = "piece"
    title = "Programme"
    purpose = "What an ear would notice: five pieces, each sparse or dense."
    level_means = POWER_LEVEL
    expect = (
        "Residuals under programme are masked more than under tones. Sparse pieces show release, dense ones the "
        "average gain."
    )
    rank = 120
    drawn = True

    piece: Piece = "bell buoy"
    density: Density = "sparse"

    def sound(self, frames: int, rate: int) -> Mono:
        """The piece, of an exact RMS."""
        sound = play(self.piece, self.seed, self.seconds, frames, rate, dense=self.density == "dense")
        power = float(np.mean(sound**2))
        if power <= 0.0:
            raise BadParameter("seconds", self.seconds, "long enough for the piece to begin")
        return sound * (self.amplitude / math.sqrt(2 * power))
