"""What is asked of a signal, and within which bounds."""

from collections.abc import Mapping
from dataclasses import asdict, dataclass
from typing import Any, Literal, get_args

from kind_echo.core.registry.errors import BadParameter

SignalKind = Literal[
    "tone", "sweep", "bells", "noise", "clicks", "impulse", "pair", "steps", "staircase", "burst", "sequence",
    "piece", "silence",
]  # fmt: skip
KINDS: tuple[SignalKind, ...] = get_args(SignalKind)
NoiseColor = Literal["white", "pink", "band"]
COLORS: tuple[NoiseColor, ...] = get_args(NoiseColor)
Law = Literal["exponential", "linear"]
LAWS: tuple[Law, ...] = get_args(Law)
PieceName = Literal["bell buoy", "gravel", "reed organ", "rain on tin", "harbour"]
PIECES: tuple[PieceName, ...] = get_args(PieceName)
Density = Literal["sparse", "dense"]
DENSITIES: tuple[Density, ...] = get_args(Density)
Placement = Literal["equal", "first", "second", "opposite", "apart"]
PLACEMENTS: tuple[Placement, ...] = get_args(Placement)

_SEEDED = ("bells", "noise", "piece")
_FADED = ("tone", "sweep", "pair", "steps")


@dataclass(frozen=True)
class SignalRequest:
    """What is asked of a signal; anything a kind does not use is left out of account.

    Attributes:
        kind: tone (steady sine), sweep, bells (bell buoy strikes, peaks a few samples long), noise, clicks (on a grid
            at a tempo), impulse, pair (two tones), steps (tones one after the other, for alias sweeps), staircase (a
            tone whose level climbs), burst (a tone, low, high, low), sequence (of maximum length), piece (programme),
            silence.
        level: dBFS of the peak; for a tone and a sweep also their AES17 RMS; of noise and of a piece the AES17 RMS.
        seconds: length of the sound, lead-in and tail not counted; steps and a staircase are as long as they need.
        channels: 1 to 8.
        placement: the same in every channel, in the first or the second of two alone, opposite in the second, or (of
            strikes, noise and pieces) apart: the second with a seed of its own.
        seed: of strikes, noise and pieces.
        lead_in, tail: silence before and after, in seconds.
        fade: raised-cosine fade at either end of a tone, sweep, pair or step, in seconds.
        frequency: of a tone, in Hz.
        coherent: the tone is moved to the nearest prime number of cycles in its seconds, so that no alias of it falls
            on a harmonic.
        start, end: frequencies of a sweep, steps or band noise, in Hz; an end of None stands for 0.45 of the rate, at
            most 20 kHz.
        law: of a sweep: frequency grows in proportion to itself, or evenly.
        color: of noise; pink falls by 3 dB an octave from 20 Hz up, band is flat between start and end.
        tempo: beats a minute, one click a beat.
        second, ratio: of a pair: the other frequency in Hz, and amplitude of the first over the second.
        per_octave: steps an octave.
        step_seconds: length of each of the steps or stairs.
        lowest, climb: dBFS of the first stair, and dB from one to the next, up to the level.
        low: dB of the low parts of a burst under its high part.
        order: of a sequence, which repeats every 2^order − 1 samples.
        piece, density: which piece of programme, and how full it is.
    """

    kind: SignalKind
    level: float = -6.0
    seconds: float = 2.0
    channels: int = 1
    placement: Placement = "equal"
    seed: int = 1
    lead_in: float = 0.0
    tail: float = 0.0
    fade: float = 0.01
    frequency: float = 997.0
    coherent: bool = False
    start: float = 20.0
    end: float | None = None
    law: Law = "exponential"
    color: NoiseColor = "white"
    tempo: float = 120.0
    second: float = 7000.0
    ratio: float = 4.0
    per_octave: float = 12.0
    step_seconds: float = 0.5
    lowest: float = -60.0
    climb: float = 2.0
    low: float = 20.0
    order: int = 16
    piece: PieceName = "bell buoy"
    density: Density = "sparse"

    def __post_init__(self) -> None:
        among("kind", self.kind, KINDS)
        within("level", self.level, -200.0, 0.0)
        within("seconds", self.seconds, 0.001, 7200.0)
        within("channels", self.channels, 1, 8)
        within("lead_in", self.lead_in, 0.0, 600.0)
        within("tail", self.tail, 0.0, 600.0)
        if self.kind in _FADED:
            within("fade", self.fade, 0.0, (self.step_seconds if self.kind == "steps" else self.seconds) / 2)
        within("tempo", self.tempo, 1.0, 1000.0)
        within("ratio", self.ratio, 0.01, 100.0)
        within("per_octave", self.per_octave, 0.5, 96.0)
        within("step_seconds", self.step_seconds, 0.1, 60.0)
        within("climb", self.climb, 0.1, 60.0)
        within("lowest", self.lowest, -140.0, self.level if self.kind == "staircase" else 0.0)
        within("low", self.low, 3.0, 120.0)
        within("order", self.order, 4, 22)
        within("seed", self.seed, 0, 2**32 - 1)
        among("color", self.color, COLORS)
        among("law", self.law, LAWS)
        among("piece", self.piece, PIECES)
        among("density", self.density, DENSITIES)
        among("placement", self.placement, PLACEMENTS)
        if self.placement != "equal" and self.channels != 2:
            raise BadParameter("channels", self.channels, "2 where the channels are not equal")
        if self.placement == "apart" and self.kind not in _SEEDED:
            raise BadParameter("placement", self.placement, f"used with a signal of chance: {', '.join(_SEEDED)}")


def in_full(request: Mapping[str, Any]) -> dict[str, Any]:
    """A request with every default written out, so that a default that changes later changes nothing that is kept.

    Channels are left out unless asked for: they come with the condition.
    """
    usual = asdict(_USUAL)
    del usual["channels"]
    return {**usual, **request}


def in_brief(request: Mapping[str, Any]) -> dict[str, Any]:
    """What a request asks for beyond the defaults, for people to read."""
    return {name: value for name, value in request.items() if name == "kind" or value != getattr(_USUAL, name)}


def within(name: str, value: float, least: float, greatest: float) -> None:
    """Raises BadParameter for a value outside, or one that is no number."""
    if not least <= value <= greatest:
        raise BadParameter(name, value, f"from {least:g} to {greatest:g}")


def among(name: str, value: str, choices: tuple[str, ...]) -> None:
    """Raises BadParameter for anything that is not among the choices."""
    if value not in choices:
        raise BadParameter(name, value, f"one of {', '.join(choices)}")


_USUAL = SignalRequest("tone")
