"""A measure, a kind of signal and a renderer of one's own.

    KIND_ECHO_EXTENSIONS=extension PYTHONPATH=examples kind-echo measure FILE

A measure then stands among all others: on the command line, in limits of plans, on the page. A kind of signal can be
written, kept and rendered. A renderer is offered by every worker of this machine.
"""

from dataclasses import dataclass

import numpy as np

from kind_echo.core.audio.source import Source, blocks
from kind_echo.core.levels.added import ChannelValues, add_file_measure
from kind_echo.core.registry.measure import Measure
from kind_echo.core.signals.parameter import Frequency
from kind_echo.core.signals.request import Mono, SignalRequest
from kind_echo.renderers.contract import Offer, OfferedEffect, OfferedHost, RenderRequest, RenderResult
from kind_echo.renderers.machine import add_renderer


def _zero_crossings(source: Source) -> ChannelValues:
    """How often each channel goes through zero within a block, per second."""
    counts = np.zeros(source.channels)
    for _, samples in blocks(source):
        counts += np.count_nonzero(np.diff(np.signbit(samples), axis=0), axis=0)
    rates = counts / (source.frames / source.rate)
    return [float(rate) for rate in rates], float(rates.mean())


add_file_measure(
    Measure(
        "zero_crossings", "Zero crossings", "1/s", "Changes of sign a second; over all the mean of the channels.",
        "Common practice, no source.", "file", "levels",
        decimals=1,  # digits after the point
        drawing="number",  # or a count, a flag, a sign
        signed=False,  # shown with a plus where either direction from zero means something
        limit=None,  # bounds that hold where a plan names none
        absolute=False,  # a limit holds for the distance from zero
        better="less",  # which end of a table is the good one
        phrase="Crosses zero at another rate",  # how a reading beyond its limit is called
        unfit=False,  # beyond its limit the render is unfit, and nothing else of it is judged
        follows=("channel_swap", "channel_missing"),  # faults that account for this one where they show too
        apart=(5.0, 0.02),  # readings further apart, in 1/s or as a share, have different causes
    ),
    version=1,
    take=_zero_crossings,
    why_none="",
)  # fmt: skip


@dataclass(frozen=True)
class Square(SignalRequest):
    """A square wave, which is not band-limited."""

    kind = "square"
    title = "Square wave"
    purpose = "How an effect takes edges."
    expect = "Edges without overshoot."

    frequency: Frequency = 997.0

    def sound(self, frames: int, rate: int) -> Mono:
        """Alternately plus and minus the level."""
        return self.amplitude * np.where(np.mod(self.frequency * np.arange(frames) / rate, 1.0) < 0.5, 1.0, -1.0)


class _Inverter:
    def render(self, request: RenderRequest) -> RenderResult:
        """Turn the polarity."""
        return RenderResult(-request.signal, claimed_latency=0)

    def artefact(self, effect: str, handle: str, version: str) -> str:
        """The same for as long as this code is."""
        return f"inverter {version}"


def _offer() -> Offer:
    host = OfferedHost("Inside", "1", "A few lines of Python.", ("offline",))
    effect = OfferedEffect("Inverter", "inverter", "Turns the polarity.", (), ("1.0",))
    return Offer("inverter", "Turns the polarity", _Inverter(), (host,), (effect,))


add_renderer(_offer)
