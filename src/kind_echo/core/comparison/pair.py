"""A pair that is compared: what is asked of it, and what is found."""

from dataclasses import dataclass, field

from kind_echo.core.audio.align import Align, Alignment
from kind_echo.core.audio.source import Source
from kind_echo.core.causes.cause import Cause
from kind_echo.core.delays.delay_reading import Delay
from kind_echo.core.levels.analysis import FileScan
from kind_echo.core.levels.integrity import Gap
from kind_echo.core.registry.errors import BadParameter, ChannelMismatch, RateMismatch
from kind_echo.core.registry.readings import Curve, Reading


@dataclass(frozen=True)
class CompareOptions:
    """How the two sides are lined up before the difference is taken; nothing is taken off silently.

    Attributes:
        align: what of the delay is taken off: nothing, whole samples, or fractions too.
        match_gain: bring the render to the reference's level.
        match_polarity: turn an inverted render over.
        max_delay: keep the search for the delay within this many samples to either side; None for the widest.
        ceiling: dBFS of the reference under which changed samples are counted apart; None for not at all.
    """

    align: Align = "samples"
    match_gain: bool = False
    match_polarity: bool = False
    max_delay: int | None = None
    ceiling: float | None = None

    def __post_init__(self) -> None:
        if self.max_delay is not None and self.max_delay < 1:
            raise BadParameter("max_delay", self.max_delay, "at least 1 sample")


USUAL = CompareOptions()
"""What is asked where nothing else is."""


@dataclass(frozen=True)
class Comparison:
    """Readings of a pair, the alignment under which its residual was taken, and what both files are by themselves.

    Attributes:
        is_deep: whether next to nothing of the difference is left unexplained.
        gaps, clicks: that were found in the render on the reference's time axis; clicks as frames by channel.
    """

    readings: list[Reading]
    alignment: Alignment
    causes: list[Cause] = field(default_factory=list)
    curves: dict[str, Curve] = field(default_factory=dict)
    sides: tuple[FileScan, FileScan] | None = None
    gaps: list[Gap] = field(default_factory=list)
    clicks: list[list[int]] = field(default_factory=list)
    is_deep: bool = False


def check_pair(reference: Source, render: Source) -> None:
    """Raises RateMismatch or ChannelMismatch when two files cannot be compared sample by sample."""
    if reference.rate != render.rate:
        raise RateMismatch(reference.rate, render.rate)
    if reference.channels != render.channels:
        raise ChannelMismatch(reference.channels, render.channels)


def alignment_for(options: CompareOptions, delay: Delay, factor: float | None) -> Alignment:
    """What the options take off of a delay, and of the signed factor of the render over the reference where known."""
    scale = 1.0
    if factor:
        gain = 1.0 / abs(factor) if options.match_gain else 1.0
        scale = gain * (-1.0 if options.match_polarity and factor < 0 else 1.0)
    if options.align == "none" or delay.samples is None:
        return Alignment(scale=scale)
    shift = round(delay.samples)
    return Alignment(shift, delay.samples - shift if options.align == "fraction" else 0.0, scale)
