"""Where samples come from, a block at a time, so that an hour-long file needs no more memory than a short one."""

import threading
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.compiled.loops import keep_single

Samples = NDArray[np.float64]
"""float64, shape (frames, channels), full scale ±1.0."""

Rows = NDArray[np.float64]
"""float64, shape (channels, frames), contiguous: what the compiled loops take."""

BLOCK = 1 << 18
"""Frames read at a time: 4 MiB of stereo."""

PASS = 1 << 16
"""Frames taken through several loops in turn: half a megabyte a channel, so that all find them in the cache."""

LEAST_RATE = 4000
"""Hz; under it BS.1770 has no weighting, for its shelf would lie above half the rate."""

MOST = 1e30
"""The greatest magnitude that is a sample: 600 dB over full scale. What is beyond counts as infinite.

A file of 64 bits can hold what has no square: what is 600 dB under full scale counts as silence.
"""

FLOAT_HALF_STEP = 2.0**-24
"""What counts as a changed sample in a float file: half a step of a 24-bit file at full scale."""


class Source(Protocol):
    """A stretch of audio that can be read in parts.

    Attributes:
        rate: frames per second.
        frames: length in frames.
        channels: number of channels.
        half_step: half a quantisation step of the word length (full scale 1.0); `FLOAT_HALF_STEP` for float.
        rail: the greatest positive sample of the word length; 1.0 for float.
    """

    @property
    def rate(self) -> int: ...  # noqa: D102
    @property
    def frames(self) -> int: ...  # noqa: D102
    @property
    def channels(self) -> int: ...  # noqa: D102
    @property
    def half_step(self) -> float: ...  # noqa: D102
    @property
    def rail(self) -> float: ...  # noqa: D102

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop, 0 ≤ start ≤ stop ≤ frames; shape (stop − start, channels)."""
        ...


@runtime_checkable
class SingleSource(Source, Protocol):
    """A source that can tell whether 32 bits hold its samples exactly, and read them so, at half the cost."""

    @property
    def is_single(self) -> bool: ...  # noqa: D102

    def read_single(self, start: int, stop: int) -> NDArray[np.float32]:
        """As `read`, where `is_single`."""
        ...


@dataclass(frozen=True)
class ArraySource:
    """Samples already in memory, shape (frames, channels)."""

    samples: Samples | NDArray[np.float32]
    rate: int
    half_step: float = FLOAT_HALF_STEP
    rail: float = 1.0

    @property
    def frames(self) -> int:
        """Length in frames."""
        return int(self.samples.shape[0])

    @property
    def channels(self) -> int:
        """Number of channels."""
        return int(self.samples.shape[1])

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        return self.samples[start:stop].astype(np.float64, copy=False)


@dataclass(frozen=True)
class Derived:
    """What is the same as of the source that another is made from."""

    source: Source

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self.source.rate

    @property
    def frames(self) -> int:
        """Length in frames."""
        return self.source.frames

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.source.channels

    @property
    def half_step(self) -> float:
        """Half a quantisation step."""
        return self.source.half_step

    @property
    def rail(self) -> float:
        """Greatest positive sample."""
        return self.source.rail


@dataclass(frozen=True)
class TurnTaking(Derived):
    """A source that several threads read, one at a time: a file has one position, a database session one statement."""

    lock: threading.Lock

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        with self.lock:
            return self.source.read(start, stop)


@dataclass(frozen=True)
class MonoSource(Derived):
    """All channels of a source added up."""

    @property
    def channels(self) -> int:
        """One."""
        return 1

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        return np.asarray(self.source.read(start, stop).sum(axis=1, keepdims=True))


@dataclass(frozen=True)
class PartSource(Derived):
    """Frames of a source as a source; silence where it has none."""

    first: int
    last: int

    @property
    def frames(self) -> int:
        """Of the part."""
        return self.last - self.first

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop of the part."""
        return read_padded(self.source, self.first + start, self.first + stop)


HELD_BYTES = 1 << 27
"""Of a source with samples of 64 bits, up to which it is held in memory."""


def in_memory(source: Source) -> Source:
    """The source, read once and held when it is small enough to be; else as it is.

    Held in 32 bits where these do, and each channel in one piece, as loops and transforms want it.
    """
    if isinstance(source, ArraySource) or source.frames * source.channels * 8 > HELD_BYTES:
        return source
    single = _as_single(source)
    if single is not None:
        return ArraySource(single.T, source.rate, source.half_step, source.rail)
    double = np.empty((source.channels, source.frames))
    for start, block in blocks(source, size=PASS):
        double[:, start : start + len(block)] = block.T
    return ArraySource(double.T, source.rate, source.half_step, source.rail)


def _as_single(source: Source) -> NDArray[np.float32] | None:
    """All samples in 32 bits, shape (channels, frames); None where these do not hold them exactly."""
    single = np.empty((source.channels, source.frames), np.float32)
    if isinstance(source, SingleSource) and source.is_single:
        for start in range(0, source.frames, BLOCK):
            stop = min(start + BLOCK, source.frames)
            single[:, start:stop] = source.read_single(start, stop).T
        return single
    parts = blocks(source, size=PASS)
    fits = all(keep_single(np.ascontiguousarray(block), start, single) for start, block in parts)
    return single if fits else None


def as_rows(samples: Samples) -> Rows:
    """A block of shape (frames, channels) as rows."""
    return np.ascontiguousarray(samples.T, dtype=np.float64)


def blocks(source: Source, start: int = 0, stop: int | None = None, size: int = BLOCK) -> Iterator[tuple[int, Samples]]:
    """The frames of a source from start to stop, as (position, samples) of at most `size` frames each."""
    end = source.frames if stop is None else stop
    for position in range(start, end, size):
        yield position, source.read(position, min(position + size, end))


def is_finite(source: Source) -> bool:
    """Whether every sample is a number: one that is none spoils the sum of squares."""
    return all(np.isfinite(np.vdot(block, block)) for _, block in blocks(source))


def read_padded(source: Source, start: int, stop: int) -> Samples:
    """Frames start to stop, with zeros for what lies before the first or after the last frame."""
    lo, hi = min(max(start, 0), source.frames), max(min(stop, source.frames), 0)
    if lo == start and hi == stop:
        return source.read(lo, hi)
    padded = np.zeros((source.channels, stop - start)).T
    if hi > lo:
        padded[lo - start : hi - start] = source.read(lo, hi)
    return padded
