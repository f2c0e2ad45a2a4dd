"""Weir, a simulated three-band splitter: linear phase, corners of 24 dB an octave, bands that sum to the input."""

import numpy as np
import scipy
from numpy.typing import NDArray

from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Build, Parameter, Place, StandIn
from kind_echo.standins.faults import Swapped
from kind_echo.standins.hops import Convolver, Hops

_HALF_SECONDS = 0.043  # of the taps on either side of the centre
_HOP_SECONDS = 0.02
_ATTENUATION = 140.0


class Weir:
    """The splitter: "all" gives the sum of its three bands as it makes them, one by one."""

    def __init__(self, place: Place, wrong_corner: tuple[int, float] | None = None) -> None:
        v, rate = place.values, place.rate
        half, hop = round(_HALF_SECONDS * rate), round(_HOP_SECONDS * rate)
        upper = float(v["upper corner"])
        if wrong_corner is not None and wrong_corner[0] == rate:
            upper *= wrong_corner[1]
        lower_pass, upper_pass = low_pass(float(v["lower corner"]), half, rate), low_pass(upper, half, rate)
        whole = np.zeros(2 * half + 1)
        whole[half] = 1.0
        bands = {"low": lower_pass, "middle": upper_pass - lower_pass, "high": whole - upper_pass}
        wanted = list(bands) if v["output"] == "all" else [str(v["output"])]
        self._convolvers = [Convolver(bands[band], hop, place.channels) for band in wanted]
        self._hops = Hops(hop, place.channels, self._work)
        self.claimed_latency = half + hop

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        return self._hops.process(block)

    def _work(self, hop: Samples) -> Samples:
        return np.asarray(np.sum([convolver.work(hop) for convolver in self._convolvers], axis=0))


def low_pass(corner: float, half: int, rate: int) -> NDArray[np.float64]:
    """2·half + 1 symmetrical taps of 6 dB loss at the corner and 24 dB an octave beyond.

    Source: the magnitude of two Butterworth low-passes of second order in cascade; S. H. Linkwitz, Active crossover
    networks for noncoincident drivers, J. Audio Eng. Soc. 24 (1976).
    """
    size = scipy.fft.next_fast_len(16 * half, real=True)
    magnitude = 1.0 / (1.0 + (scipy.fft.rfftfreq(size, 1 / rate) / corner) ** 4)
    taps = np.roll(scipy.fft.irfft(magnitude, size), half)[: 2 * half + 1]
    return np.asarray(taps * scipy.signal.windows.kaiser(2 * half + 1, scipy.signal.kaiser_beta(_ATTENUATION)))


WEIR = StandIn(
    "Weir",
    "A three-band splitter of linear phase.",
    (
        Parameter("lower corner", 250.0, "Hz", 60.0, 1000.0),
        Parameter("upper corner", 3000.0, "Hz", 1000.0, 12000.0),
        Parameter("output", "all", choices=("all", "low", "middle", "high")),
    ),
    (
        Build("1.0", "The release that is in the shops."),
        Build("1.1-rc1", "First candidate: faster filters.", departs={"wrong_corner": (96_000, 1.09)}),
        Build("1.1-rc2", "Second candidate: filters mended, channels handled two at a time.", (Swapped(),)),
    ),
    Weir,
)
