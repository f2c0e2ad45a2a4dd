"""Plumb, a simulated gain and polarity utility."""

from kind_echo.core.audio.source import Samples
from kind_echo.standins.effects import Build, Parameter, Place, StandIn, linear
from kind_echo.standins.faults import Flipped, Hiss, Where


class Plumb:
    """The utility: one factor, no latency."""

    claimed_latency = 0

    def __init__(self, place: Place) -> None:
        turned = place.values["polarity"] == "turned"
        self._factor = linear(place.values["gain"]) * (-1.0 if turned else 1.0)

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        return block * self._factor


PLUMB = StandIn(
    "Plumb",
    "A gain and polarity utility.",
    (
        Parameter("gain", 0.0, "dB", -24.0, 24.0),
        Parameter("polarity", "as it comes", choices=("as it comes", "turned")),
    ),
    (
        Build("1.0", "The release that is in the shops."),
        Build("1.1-rc1", "First candidate: remembers the last gain.", departs={"defaults": {"gain": 3.5}}),
        Build(
            "1.1-rc2",
            "Second candidate: starts at unity again.",
            (Flipped(Where(values={"gain": -24.0})), Hiss(-130.0, Where(values={"gain": 0.0}))),
        ),
    ),
    Plumb,
)
