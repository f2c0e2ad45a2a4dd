"""Rushlight, a simulated rate reducer: holds samples of a lower rate, with or without an anti-alias filter."""

import numpy as np
import scipy

from kind_echo.core.audio.source import Samples
from kind_echo.standins._loops import hold_samples
from kind_echo.standins.effects import Build, Parameter, Place, StandIn
from kind_echo.standins.faults import EdgeClick
from kind_echo.standins.hops import Convolver, Hops

_TAPS_SECONDS = 0.004
_HOP_SECONDS = 0.005
_ATTENUATION = 100.0
_PASS = 0.44  # of the lower rate
_WANDER_HZ = 0.7


class Rushlight:
    """The rate reducer. Its clock may wander: the swing is free, so that no two renders are alike."""

    def __init__(self, place: Place, forgotten_at: int | None = None) -> None:
        v, rate = place.values, place.rate
        target = min(float(v["rate"]), float(rate))
        self._step, self._wander = target / rate, float(v["wander"]) / 100.0
        self._swing = 2 * np.pi * _WANDER_HZ / rate
        self._state = np.zeros(2)  # phase of the clock, phase of its swing
        self._state[0] = 1.0
        if self._wander:
            self._state[1] = np.random.default_rng().uniform(0, 2 * np.pi)
        self._last = np.zeros(place.channels)
        self._hops, self.claimed_latency = None, 0
        if v["filter"] == "on":
            half, hop = round(_TAPS_SECONDS * rate), round(_HOP_SECONDS * rate)
            cutoff = min(_PASS * target, 0.49 * rate)
            taps = scipy.signal.firwin(
                2 * half + 1, cutoff, window=("kaiser", scipy.signal.kaiser_beta(_ATTENUATION)), fs=rate
            )
            if forgotten_at == rate:
                taps = np.where(np.arange(2 * half + 1) == half, 1.0, 0.0)
            self._hops = Hops(hop, place.channels, Convolver(taps, hop, place.channels).work)
            self.claimed_latency = half + hop

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        smooth = block if self._hops is None else self._hops.process(block)
        return hold_samples(
            np.ascontiguousarray(smooth), self._step, self._wander, self._swing, self._state, self._last
        )


RUSHLIGHT = StandIn(
    "Rushlight",
    "A rate reducer, for telephones and old receivers.",
    (
        Parameter("rate", 12_000.0, "Hz", 1000.0, 48_000.0),
        Parameter("filter", "on", choices=("on", "off")),
        Parameter("wander", 0.0, "%", 0.0, 5.0),
    ),
    (
        Build("0.9", "The release that is in the shops."),
        Build("1.0-rc1", "First candidate: the filter is designed at load.", departs={"forgotten_at": 96_000}),
        Build("1.0-rc2", "Second candidate: filter mended, blocks handed over anew.", (EdgeClick(0.004),)),
    ),
    Rushlight,
)
