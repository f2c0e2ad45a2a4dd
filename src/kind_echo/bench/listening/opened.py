"""Sides as sources: audio, a difference or a lossy copy, read a stretch at a time, at the rate of the first."""

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from sqlalchemy.orm import Session

from kind_echo.audio_io.codecs import Codec, LossyCodec
from kind_echo.bench.audio import open_address
from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import Samples, Source, read_padded
from kind_echo.core.listening.lossy import decoded_copy

_MARGIN = 4096  # frames beside a stretch that is resampled
_CONTEXT_SECONDS = 0.5  # beside a stretch that is encoded


@dataclass(frozen=True)
class Part:
    """A source that goes into a side, with what is done to it on the way.

    Attributes:
        address: as audio is addressed.
        codec, bitrate: of a lossy copy; None for none.
        shift, fraction: samples by which it is later than the first side, at that side's rate.
        scale: factor; −1 for what a difference takes off.
    """

    address: str
    codec: Codec | None = None
    bitrate: float = 0.0
    shift: int = 0
    fraction: float = 0.0
    scale: float = 1.0


class Opened:
    """A part's audio at its own rate; a lossy copy is made of the stretch that is read."""

    half_step, rail = 2.0**-24, 1.0

    def __init__(self, session: Session, part: Part) -> None:
        self._source = open_address(session, part.address).source
        self.part = part

    @property
    def rate(self) -> int:
        """Sample rate, in Hz."""
        return self._source.rate

    @property
    def frames(self) -> int:
        """Of the source itself."""
        return self._source.frames

    @property
    def channels(self) -> int:
        """As many as the source has."""
        return self._source.channels

    @property
    def plain(self) -> Source:
        """Before any encoding."""
        return self._source

    @cached_property
    def _codec(self) -> LossyCodec | None:
        part = self.part
        return None if part.codec is None else LossyCodec(part.codec, part.bitrate, self.rate, self.channels)

    def frames_at(self, rate: int) -> int:
        """Its length at another rate."""
        return math.ceil(self.frames * rate / self.rate)

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop, encoded and decoded where it is a lossy copy."""
        if self._codec is None:
            return _audible(self._source.read(start, stop))
        beside = round(_CONTEXT_SECONDS * self.rate)
        first, last = max(0, start - beside), min(self.frames, stop + beside)
        whole = _audible(self._source.read(first, last))
        return decoded_copy(whole, self.rate, self._codec)[start - first : stop - first]


@dataclass(frozen=True)
class AtRate:
    """A source at another rate, read in stretches: each begins at a frame that both rates have."""

    source: "Opened"
    rate: int
    half_step: float = 2.0**-24
    rail: float = 1.0

    @property
    def frames(self) -> int:
        """At the rate that is asked for."""
        return self.source.frames_at(self.rate)

    @property
    def channels(self) -> int:
        """As many as the source has."""
        return self.source.channels

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop at the rate that is asked for."""
        own, wanted = self.source.rate, self.rate
        if own == wanted:
            return self.source.read(start, stop)
        step = own // math.gcd(own, wanted)
        first = (start * own // wanted - _MARGIN) // step * step
        last = math.ceil(stop * own / wanted) + _MARGIN
        made = resample(read_padded(self.source, first, last), own, wanted)
        offset = start - first * wanted // own
        return np.asarray(made[offset : offset + stop - start])


def _audible(samples: Samples) -> Samples:
    """Silence for what is no number, so that no sound device is given it."""
    return samples if np.isfinite(samples).all() else np.nan_to_num(samples, nan=0.0, posinf=0.0, neginf=0.0)
