"""The kinds of signals in words: what each is for, what its level means, what can be set, and what to expect."""

from dataclasses import dataclass

from kind_echo.core.audio.folding import fold
from kind_echo.core.signals.making import played_frequency
from kind_echo.core.signals.request import (
    COLORS,
    DENSITIES,
    LAWS,
    PIECES,
    PLACEMENTS,
    SignalKind,
    SignalRequest,
)

Default = float | int | str | bool | None

_PEAK = "dBFS, the peak"
_SINE = "dBFS, the peak of the sine, which is also its AES17 RMS"
_POWER = "dBFS, the AES17 RMS: a full-scale sine reads 0"
_MOST_ORDER = 60
_SHOWN = 8  # aliases listed for each rate


@dataclass(frozen=True)
class Parameter:
    """What can be set of a signal; bounds for numbers, choices for words, neither for a switch."""

    key: str
    title: str
    unit: str = ""
    least: float | None = None
    greatest: float | None = None
    choices: tuple[str, ...] = ()
    whole: bool = False

    @property
    def default(self) -> Default:
        """What holds unless something else is asked for."""
        value: Default = getattr(_USUAL, self.key)
        return value


@dataclass(frozen=True)
class Kind:
    """A kind of signal.

    Attributes:
        purpose: what it is for.
        level: what its level means.
        expect: what a good effect makes of it, and what to look for.
        own: parameters beside those of every kind.
    """

    key: SignalKind
    title: str
    purpose: str
    level: str
    expect: str
    own: tuple[str, ...] = ()

    @property
    def parameters(self) -> tuple[Parameter, ...]:
        """All that can be set, what is its own first."""
        fixed = self.key in ("steps", "staircase")
        shared = [
            key
            for key in _SHARED
            if not (fixed and key == "seconds") and not (self.key == "silence" and key == "level")
        ]
        return tuple(_PARAMETERS[key] for key in (*self.own, *shared))


@dataclass(frozen=True)
class Alias:
    """Where one harmonic of a tone lies above half the rate, and where it folds to, in Hz."""

    order: int
    frequency: float
    folded: float


_USUAL = SignalRequest("tone")
_SHARED = ("level", "seconds", "lead_in", "tail", "placement")
_PARAMETERS = {
    p.key: p
    for p in (
        Parameter("level", "Level", "dBFS", -200.0, 0.0),
        Parameter("seconds", "Length", "s", 0.001, 7200.0),
        Parameter("lead_in", "Silence before", "s", 0.0, 600.0),
        Parameter("tail", "Silence after", "s", 0.0, 600.0),
        Parameter("placement", "Channels", choices=PLACEMENTS),
        Parameter("fade", "Fades", "s", 0.0, 60.0),
        Parameter("frequency", "Frequency", "Hz", 1.0, 192_000.0),
        Parameter("coherent", "Coherent"),
        Parameter("start", "From", "Hz", 1.0, 192_000.0),
        Parameter("end", "To", "Hz", 1.0, 192_000.0),
        Parameter("law", "Growth", choices=LAWS),
        Parameter("color", "Color", choices=COLORS),
        Parameter("seed", "Seed", "", 0, 2**32 - 1, whole=True),
        Parameter("tempo", "Tempo", "beats a minute", 1.0, 1000.0),
        Parameter("second", "Second frequency", "Hz", 1.0, 192_000.0),
        Parameter("ratio", "First over second", ":1", 0.01, 100.0),
        Parameter("per_octave", "Steps an octave", "", 0.5, 96.0),
        Parameter("step_seconds", "Length of a step", "s", 0.1, 60.0),
        Parameter("lowest", "First stair", "dBFS", -140.0, 0.0),
        Parameter("climb", "Stair", "dB", 0.1, 60.0),
        Parameter("low", "Low parts under the high", "dB", 3.0, 120.0),
        Parameter("order", "Order", "", 4, 22, whole=True),
        Parameter("piece", "Piece", choices=PIECES),
        Parameter("density", "Density", choices=DENSITIES),
    )
}
KIND_NOTES: dict[str, Kind] = {
    kind.key: kind
    for kind in (
        Kind("tone", "Steady tone", "Harmonics, noise and aliases; gain at one frequency.", _SINE,
             "Harmonics at multiples of the frequency. Those beyond half the rate fold back, unless the effect keeps "
             "them away.", ("frequency", "coherent", "fade")),
        Kind("steps", "Stepped tones", "Aliases over the whole band, step by step.", _SINE,
             "On the map, harmonics climb to half the rate; what comes down again from there, or from zero, is folded.",
             ("start", "end", "per_octave", "step_seconds", "fade")),
        Kind("sweep", "Sine sweep", "Magnitude, phase and group delay in one pass.", _SINE,
             "An idle effect gives a flat line and no phase beyond its latency.", ("start", "end", "law", "fade")),
        Kind("pair", "Two tones", "Intermodulation: 60 Hz and 7 kHz at 4:1, or 19 and 20 kHz at 1:1.",
             "dBFS, the peak of the sum", "Sums and differences of the two: beside the upper tone for 60 Hz and 7 kHz, "
             "at 1 kHz and around the pair for 19 and 20 kHz.", ("frequency", "second", "ratio", "fade")),
        Kind("staircase", "Level staircase", "The transfer curve: level out against level in.",
             "dBFS, the peak of the last stair", "Below the threshold the curve is a line of slope 1; above it, of one "
             "over the ratio. A gap below the threshold is a hidden gain.",
             ("frequency", "lowest", "climb", "step_seconds")),
        Kind("burst", "Tone burst", "Attack, release, overshoot and look-ahead.", "dBFS, the peak of the high part",
             "Gain falls after the step up with the attack, and recovers after the step down with the release.",
             ("frequency", "low")),
        Kind("clicks", "Click grid", "Latency, event by event, and whether it holds.", _PEAK,
             "Every click as late as the effect claims, the first one too.", ("tempo",)),
        Kind("impulse", "Impulse", "The impulse response, and latency.", _PEAK,
             "What comes before the main peak is look-ahead or a linear-phase filter."),
        Kind("sequence", "Maximum-length sequence", "Response of linear effects at a flat spectrum and the least "
             "crest factor.", _PEAK, "A flat spectrum with a crest factor of 0 dB. It repeats every 2^order − 1 "
             "samples at any rate, so that it alone of all signals is not the same sound at two rates.", ("order",)),
        Kind("noise", "Noise", "Response and coherence; null tests on all frequencies at once.", _POWER,
             "White has equal power in each hertz, pink in each octave. Peaks stand about 12 dB above the level.",
             ("color", "start", "end", "seed")),
        Kind("bells", "Bell buoy strikes", "Peaks a few samples long, then a long ring: what steady tones do not show.",
             _PEAK, "A limiter or clipper meets peaks between samples here; a compressor must catch the contact or let "
             "it pass, by its character.", ("seed",)),
        Kind("piece", "Programme", "What an ear would notice: five pieces, each sparse or dense.", _POWER,
             "Residuals under programme are masked more than under tones. Sparse pieces show release, dense ones the "
             "average gain.", ("piece", "density", "seed")),
        Kind("silence", "Silence", "What an effect adds by itself: noise, DC, or numbers that are none.", "none",
             "Digital silence, or the noise floor that the effect is said to have."),
    )
}  # fmt: skip


def expected_aliases(request: SignalRequest, rate: int) -> list[Alias]:
    """The harmonics of a tone that lie above half a rate, by order, and where they fold to; as many as are shown."""
    frequency = played_frequency(request)
    first = int(rate / 2 / frequency) + 1
    orders = range(max(2, first), min(_MOST_ORDER, first + _SHOWN - 1) + 1)
    return [Alias(order, order * frequency, fold(order * frequency, rate)) for order in orders]
