"""Sedge, a simulated resonance tamer: takes down what stands out of its surroundings in the spectrum."""

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Build, Parameter, Place, StandIn
from kind_echo.standins.faults import NotANumberAfterSilence
from kind_echo.standins.hops import Hops, Spectral

_FRAME_SECONDS = 0.0427
_AROUND = 2.0 ** (1 / 3)  # a third of an octave to either side
_OUTSTANDING = 1.6  # magnitude over its surroundings from which a line is taken down
_AMOUNT = {"gentle": 0.35, "firm": 1.3}
_NOTHING = 1e-12


class Sedge:
    """The tamer: delays by one frame of 43 ms; its difference output is what it took away."""

    def __init__(self, place: Place) -> None:
        frame = 2 ** round(np.log2(_FRAME_SECONDS * place.rate))
        self._amount = _AMOUNT[str(place.values["strength"])]
        self._takes = place.values["output"] == "difference"
        bins = np.arange(frame // 2 + 1)
        self._low = np.floor(bins / _AROUND).astype(int)
        self._high = np.minimum(np.ceil(bins * _AROUND).astype(int) + 1, len(bins))
        spectral = Spectral(frame, place.channels, self._gains)
        self._hops = Hops(spectral.hop, place.channels, spectral.work)
        self.claimed_latency = frame

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        return self._hops.process(block)

    def _gains(self, spectra: NDArray[np.complex128]) -> NDArray[np.float64]:
        power = np.abs(spectra) ** 2
        sums = np.concatenate([np.zeros((1, power.shape[1])), np.cumsum(power, axis=0)])
        around = (sums[self._high] - sums[self._low]) / (self._high - self._low)[:, None]
        stands_out = np.sqrt(power / np.maximum(around, _NOTHING)) / _OUTSTANDING
        gains = np.maximum(stands_out, 1.0) ** -self._amount
        return 1.0 - gains if self._takes else np.asarray(gains)


SEDGE = StandIn(
    "Sedge",
    "A resonance tamer.",
    (
        Parameter("strength", "gentle", choices=("gentle", "firm")),
        Parameter("output", "result", choices=("result", "difference")),
    ),
    (
        Build("2.2", "The release that is in the shops."),
        Build("2.3-rc1", "First candidate: reacts to the level before it.", (NotANumberAfterSilence(),)),
    ),
    Sedge,
)
