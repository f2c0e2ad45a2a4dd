"""What can be set of a signal: one specification for each parameter, whichever kinds have it."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal, get_args

from kind_echo.core.registry.errors import BadParameter

NoiseColor = Literal["white", "pink", "band"]
COLORS: tuple[NoiseColor, ...] = get_args(NoiseColor)
SweepLaw = Literal["exponential", "linear"]
LAWS: tuple[SweepLaw, ...] = get_args(SweepLaw)
PieceName = Literal["bell buoy", "gravel", "reed organ", "rain on tin", "harbour"]
PIECES: tuple[PieceName, ...] = get_args(PieceName)
DensityName = Literal["sparse", "dense"]
DENSITIES: tuple[DensityName, ...] = get_args(DensityName)
PlacementName = Literal["equal", "first", "second", "opposite", "apart"]
PLACEMENTS: tuple[PlacementName, ...] = get_args(PlacementName)


@dataclass(frozen=True)
class Parameter:
    """A parameter of signals: bounds for numbers, choices for words, neither for a switch.

    Attributes:
        title: its name in a form.
        help: one line on it, for the command line.
        by_rate: its bounds are for a form; what a signal can have hangs on the rate, and is checked when it is made.
    """

    title: str
    help: str
    unit: str = ""
    least: float | None = None
    greatest: float | None = None
    choices: tuple[str, ...] = ()
    whole: bool = False
    by_rate: bool = False

    def check(self, name: str, value: Any) -> None:
        """Raises BadParameter for a value outside the bounds or not among the choices."""
        if self.choices:
            among(name, value, self.choices)
        elif self.least is not None and self.greatest is not None and not self.by_rate:
            within(name, value, self.least, self.greatest)


def within(name: str, value: float, least: float, greatest: float) -> None:
    """Raises BadParameter for a value outside, or one that is no number."""
    if not least <= value <= greatest:
        raise BadParameter(name, value, f"from {least:g} to {greatest:g}")


def among(name: str, value: str, choices: tuple[str, ...]) -> None:
    """Raises BadParameter for anything that is not among the choices."""
    if value not in choices:
        raise BadParameter(name, value, f"one of {', '.join(choices)}")


_FREQUENCIES = {"unit": "Hz", "least": 1.0, "greatest": 192_000.0, "by_rate": True}

Level = Annotated[float, Parameter("Level", "dBFS: the peak; of noise and pieces the AES17 RMS.", "dBFS", -200.0, 0.0)]
Seconds = Annotated[float, Parameter("Length", "Without lead-in and tail.", "s", 0.001, 7200.0)]
Channels = Annotated[int, Parameter("Channels", "How many.", "", 1, 8, whole=True)]
Placement = Annotated[PlacementName, Parameter("Channels", "Of two channels.", choices=PLACEMENTS)]
Seed = Annotated[int, Parameter("Seed", "Of strikes, noise and pieces.", "", 0, 2**32 - 1, whole=True)]
LeadIn = Annotated[float, Parameter("Silence before", "Silence before, in seconds.", "s", 0.0, 600.0)]
Tail = Annotated[float, Parameter("Silence after", "Silence after, in seconds.", "s", 0.0, 600.0)]
Fade = Annotated[
    float, Parameter("Fades", "At either end of a tone, sweep, pair or step, in seconds.", "s", 0.0, 3600.0)
]
Frequency = Annotated[float, Parameter("Frequency", "Of a tone, pair, staircase or burst, Hz.", **_FREQUENCIES)]
SecondFrequency = Annotated[float, Parameter("Second frequency", "The pair's other frequency, Hz.", **_FREQUENCIES)]
Start = Annotated[float, Parameter("From", "Of a sweep, steps or band, Hz.", **_FREQUENCIES)]
End = Annotated[
    float | None,
    Parameter("To", "Of a sweep, steps or band, Hz; 20 kHz, or 0.45 of the rate where that is less.", **_FREQUENCIES),
]
Coherent = Annotated[
    bool, Parameter("Coherent", "Move the tone to a prime number of cycles, so that aliases stand apart.")
]
Law = Annotated[SweepLaw, Parameter("Sweep law", "Of a sweep.", choices=LAWS)]
Color = Annotated[NoiseColor, Parameter("Color", "Of noise.", choices=COLORS)]
Tempo = Annotated[float, Parameter("Tempo", "Of clicks, beats a minute.", "beats a minute", 1.0, 1000.0)]
Ratio = Annotated[
    float, Parameter("First over second", "The pair's first amplitude over the other.", ":1", 0.01, 100.0)
]
PerOctave = Annotated[float, Parameter("Steps an octave", "Steps an octave.", "", 0.5, 96.0)]
StepSeconds = Annotated[float, Parameter("Step length", "Of each of the steps or stairs, in seconds.", "s", 0.1, 60.0)]
Lowest = Annotated[float, Parameter("Lowest level", "First stair, dBFS.", "dBFS", -140.0, 0.0)]
Climb = Annotated[float, Parameter("Step size", "From one stair to the next, dB.", "dB", 0.1, 60.0)]
Low = Annotated[
    float, Parameter("Low level below high", "Low parts of a burst under its high part, dB.", "dB", 3.0, 120.0)
]
Order = Annotated[int, Parameter("Order", "Of a sequence: it repeats every 2^order − 1.", "", 4, 22, whole=True)]
Piece = Annotated[PieceName, Parameter("Piece", "Of programme.", choices=PIECES)]
Density = Annotated[DensityName, Parameter("Density", "Of programme.", choices=DENSITIES)]
