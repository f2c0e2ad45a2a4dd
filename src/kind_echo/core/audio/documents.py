"""The shape in which a spectrum is kept as JSON."""

from typing import TypedDict


class SpectrumDocument(TypedDict):
    """Centres of bands in Hz, the level in each in dBFS of a sine's peak, and the frames of one transform."""

    frequencies: list[float]
    levels: list[float]
    window: int
