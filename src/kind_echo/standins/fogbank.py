"""Fogbank, a simulated noise remover: what does not change is taken for noise, a steady tone as well."""

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Build, Parameter, Place, StandIn, linear
from kind_echo.standins.faults import Offset
from kind_echo.standins.hops import Hops, Spectral

_LOOK_AHEAD = 0.040  # s
_MEMORY = 0.15  # s
_NOTHING = 1e-12


class Fogbank:
    """The noise remover: looks 40 ms ahead."""

    def __init__(self, place: Place) -> None:
        frame = round(_LOOK_AHEAD * place.rate / 4) * 4
        self._floor = linear(-float(place.values["depth"]))
        self._mean: NDArray[np.float64] = np.zeros((frame // 2 + 1, place.channels))
        spectral = Spectral(frame, place.channels, self._gains)
        self._weight = float(-np.expm1(-spectral.hop / (_MEMORY * place.rate)))
        self._hops = Hops(spectral.hop, place.channels, spectral.work)
        self.claimed_latency = frame

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        return self._hops.process(block)

    def _gains(self, spectra: NDArray[np.complex128]) -> NDArray[np.float64]:
        magnitude = np.abs(spectra)
        self._mean = self._mean + self._weight * (magnitude - self._mean)
        rises = magnitude / np.maximum(self._mean, _NOTHING)
        return np.clip((rises - 1.2) / 0.8, self._floor, 1.0)


FOGBANK = StandIn(
    "Fogbank",
    "A noise remover.",
    (Parameter("depth", 40.0, "dB", 6.0, 140.0),),
    (
        Build("1.1", "The release that is in the shops."),
        Build("1.2-rc1", "First candidate: a steadier floor.", (Offset(0.001),)),
    ),
    Fogbank,
)
