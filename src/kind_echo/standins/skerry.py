"""Skerry, a simulated peak clipper: hard or soft, with ceiling, drive, mix and oversampling."""

import numpy as np
import scipy

from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Build, Parameter, Place, StandIn, linear
from kind_echo.standins.faults import Late, Level, Where
from kind_echo.standins.oversampling import HALF_LENGTH, Downsampler, Upsampler

_WRONG_CUTOFF = 0.62  # of the base rate: everything up to 0.12 of it folds back
_DC_CORNER = 5.0  # Hz


class Skerry:
    """The clipper. Oversampled it delays by 96 frames, which it claims.

    With `raises` at "difference", what clipping takes away is made at the raised rate and added to the input, so that
    what is under the ceiling passes as it came, save for the delay.
    """

    def __init__(self, place: Place, wrong_filter: tuple[int, int] | None = None) -> None:
        values = place.values
        factor = int(values["oversampling"])
        self._soft = values["shape"] == "soft"
        self._ceiling, self._drive = linear(values["ceiling"]), linear(values["drive"])
        self._mix = float(values["mix"]) / 100.0
        self._difference = values["raises"] == "difference"
        self.claimed_latency = 0 if factor == 1 else 2 * HALF_LENGTH
        self._late = np.zeros((self.claimed_latency, place.channels))
        self._up, self._down = None, None
        if factor > 1:
            self._up = Upsampler(factor, place.channels)
            wrong = wrong_filter == (factor, place.rate)
            self._down = Downsampler(factor, place.channels, *((_WRONG_CUTOFF,) if wrong else ()))
        self._dc = _DcFilter(place) if values["dc filter"] == "on" else None

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        driven = block * self._drive
        if self._up is None or self._down is None:
            dry, shaped = block, self._shape(driven)
        else:
            dry, late_drive = self._delayed(block), None
            raised = self._up.process(driven)
            clipped = self._shape(raised)
            if self._difference:
                late_drive = dry * self._drive
                clipped = clipped - raised
            shaped = self._down.process(clipped)
            if late_drive is not None:
                shaped = shaped + late_drive
        out = shaped if self._mix == 1.0 else dry + self._mix * (shaped - dry)
        return self._dc.process(out) if self._dc is not None else out

    def _shape(self, samples: Samples) -> Samples:
        if self._soft:
            return self._ceiling * np.tanh(samples / self._ceiling)
        return np.clip(samples, -self._ceiling, self._ceiling)

    def _delayed(self, block: Samples) -> Samples:
        joined = np.concatenate([self._late, block])
        self._late = joined[len(block) :]
        return joined[: len(block)]


class _DcFilter:
    """A high-pass of first order."""

    def __init__(self, place: Place) -> None:
        self._b, self._a = scipy.signal.butter(1, _DC_CORNER, "highpass", fs=place.rate)
        self._state = np.zeros((1, place.channels))

    def process(self, block: Samples) -> Samples:
        out, self._state = scipy.signal.lfilter(self._b, self._a, block, axis=0, zi=self._state)
        return np.asarray(out)


SKERRY = StandIn(
    "Skerry",
    "A peak clipper for radio plays and museum sound walks.",
    (
        Parameter("shape", "hard", choices=("hard", "soft")),
        Parameter("ceiling", 0.0, "dBFS", -40.0, 0.0),
        Parameter("drive", 0.0, "dB", -24.0, 24.0),
        Parameter("mix", 100.0, "%", 0.0, 100.0),
        Parameter("oversampling", 1, choices=(1, 2, 4, 8, 16)),
        Parameter("raises", "all", choices=("all", "difference")),
        Parameter("dc filter", "off", choices=("off", "on")),
    ),
    (
        Build("2.0.3", "The release that is in the shops."),
        Build(
            "2.1.0-rc1",
            "First candidate: the soft shape was tuned.",
            (Level(0.07, Where(values={"shape": "soft"})), Late(1)),
        ),
        Build("2.1.0-rc2", "Second candidate: latency and level mended.", departs={"wrong_filter": (8, 44_100)}),
    ),
    Skerry,
)
