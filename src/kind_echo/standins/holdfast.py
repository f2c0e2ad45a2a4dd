"""Holdfast, a simulated look-ahead limiter."""

import numpy as np

from kind_echo.core.audio.source import Samples
from kind_echo.standins._loops import hold_least, mean
from kind_echo.standins.effects import Build, Parameter, Place, StandIn, linear
from kind_echo.standins.faults import Claims, LeftOver
from kind_echo.standins.oversampling import HALF_LENGTH, Upsampler

_FACTOR = 4


class Holdfast:
    """The limiter: delays by its look-ahead, and by 48 frames more where it is aware of peaks between samples.

    The gain that each frame needs is held at its least over the look-ahead, recovers with the release, and is averaged
    over the look-ahead: it has then fallen as far as it must when the peak comes.
    """

    def __init__(self, place: Place) -> None:
        v = place.values
        self._ceiling = linear(v["ceiling"])
        self._length = max(1, round(float(v["look-ahead"]) / 1000 * place.rate))
        self._release = float(-np.expm1(-1.0 / (float(v["release"]) / 1000 * place.rate)))
        self._up = Upsampler(_FACTOR, place.channels) if v["peaks"] == "between samples" else None
        self.claimed_latency = self._length - 1 + (HALF_LENGTH if self._up else 0)
        self._late = np.zeros((self.claimed_latency, place.channels))
        self._edge = np.zeros(_FACTOR)
        self._needed = np.ones(self._length - 1)
        self._held = np.ones(self._length - 1)
        self._state = np.ones(1)

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        needed = np.concatenate([self._needed, self._need(block)])
        held = hold_least(needed, self._length, self._release, self._state)
        joined = np.concatenate([self._held, held])
        gain = mean(joined, self._length)
        self._needed, self._held = needed[len(block) :], joined[len(block) :]
        late = np.concatenate([self._late, block])
        self._late = late[len(block) :]
        return late[: len(block)] * gain[:, None]

    def _need(self, block: Samples) -> Samples:
        """Gain that each frame needs by itself; between samples, by the greatest of the points on either side."""
        if self._up is None:
            level = np.max(np.abs(block), axis=1)
        else:
            points = np.concatenate([self._edge, np.max(np.abs(self._up.process(block)), axis=1)])
            self._edge = points[len(points) - _FACTOR :]
            parts = points.reshape(-1, _FACTOR).max(axis=1)
            level = np.maximum(parts[:-1], parts[1:])
        return np.asarray(self._ceiling / np.maximum(level, self._ceiling))


HOLDFAST = StandIn(
    "Holdfast",
    "A look-ahead limiter.",
    (
        Parameter("ceiling", -1.0, "dBFS", -24.0, 0.0),
        Parameter("look-ahead", 2.0, "ms", 0.0, 10.0),
        Parameter("release", 60.0, "ms", 1.0, 1000.0),
        Parameter("peaks", "of samples", choices=("of samples", "between samples")),
    ),
    (
        Build("3.0.1", "The release that is in the shops."),
        Build("3.1-rc1", "First candidate: a shorter look-ahead was tried, and taken back.", (Claims(64),)),
        Build("3.1-rc2", "Second candidate: claims what it takes.", (LeftOver(),)),
    ),
    Holdfast,
)
