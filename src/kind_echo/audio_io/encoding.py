"""Samples as bytes: interleaved little-endian, in the word length they came in, so that nothing is lost or invented."""

from dataclasses import dataclass
from typing import Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.audio.source import FLOAT_HALF_STEP, Samples, Source

_FLACS_CHANNELS, _FLACS_RATE = 8, 655_350


@dataclass(frozen=True)
class Encoding:
    """A word length.

    Attributes:
        name: as libsndfile names it.
        width: bytes of a sample.
        bits: of an integer word; 0 for a float.
    """

    name: str
    width: int
    bits: int = 0

    @property
    def is_single(self) -> bool:
        """Whether 32 bits hold every sample exactly."""
        return self.bits in (16, 24) if self.bits else self.width == 4

    @property
    def half_step(self) -> float:
        """Half a quantisation step at full scale ±1.0."""
        return 2.0**-self.bits if self.bits else FLOAT_HALF_STEP

    @property
    def rail(self) -> float:
        """Greatest positive sample at full scale ±1.0; of 32 bits that of 24, which most files of that kind hold."""
        return 1.0 - 2.0 ** (1 - min(self.bits, 24)) if self.bits else 1.0


ENCODINGS = {
    e.name: e
    for e in (
        Encoding("PCM_16", 2, 16),
        Encoding("PCM_24", 3, 24),
        Encoding("PCM_32", 4, 32),
        Encoding("FLOAT", 4),
        Encoding("DOUBLE", 8),
    )
}


def fits_flac(encoding: str, channels: int, rate: int) -> bool:
    """Whether a FLAC file holds such samples as they are: words of 16 or 24 bits, 8 channels, 655,350 Hz (RFC 9639)."""
    return encoding in ("PCM_16", "PCM_24") and channels <= _FLACS_CHANNELS and rate <= _FLACS_RATE


@runtime_checkable
class EncodedSource(Source, Protocol):
    """A source that can give its samples as encoded bytes, without decoding them."""

    @property
    def encoding(self) -> Encoding: ...  # noqa: D102

    def read_encoded(self, start: int, stop: int) -> bytes:
        """Frames start to stop as bytes of `encoding`, channels interleaved."""
        ...


def subtype_of(source: Source) -> str:
    """The word length that holds a source's samples as they are, as libsndfile names it."""
    own = getattr(source, "encoding", None)
    return own.name if isinstance(own, Encoding) else "DOUBLE"


def encoded(source: Source, encoding: Encoding, start: int, stop: int) -> bytes:
    """Frames start to stop of a source as bytes of an encoding; copied where the source has that encoding itself."""
    if isinstance(source, EncodedSource) and source.encoding == encoding:
        return source.read_encoded(start, stop)
    return encode(source.read(start, stop), encoding)


def encode(samples: Samples, encoding: Encoding) -> bytes:
    """Samples, shape (frames, channels), as bytes; integers are rounded to nearest and held at the rails."""
    if not encoding.bits:
        return samples.astype("<f4" if encoding.width == 4 else "<f8").tobytes()
    rail = 2.0 ** (encoding.bits - 1)
    words = np.clip(np.rint(samples * rail), -rail, rail - 1).astype("<i8")
    if encoding.width != 3:
        return words.astype(f"<i{encoding.width}").tobytes()
    return np.ascontiguousarray(words.astype("<i4")[..., None].view("u1")[..., :3]).tobytes()


def as_kept(samples: Samples, encoding: Encoding) -> Samples:
    """Samples as they come back once they were kept in an encoding; as they are where one is not finite.

    Words of whole numbers hold no such sample, and that there was one must not be lost before it is told.
    """
    if not np.isfinite(samples).all():
        return samples
    return decode(encode(samples, encoding), encoding, samples.shape[1])


def from_words(words: NDArray[np.int16] | NDArray[np.int32], encoding: Encoding) -> bytes:
    """Integers as libsndfile reads them, shape (frames, channels), as bytes; 24 bits are the upper ones of 32."""
    if encoding.width != 3:
        return np.asarray(words, f"<i{encoding.width}").tobytes()
    return np.ascontiguousarray(np.asarray(words, "<i4").reshape(-1, 1).view(np.uint8)[:, 1:]).tobytes()


def decode_single(data: bytes, encoding: Encoding, channels: int) -> NDArray[np.float32]:
    """As `decode`, in 32 bits, for an encoding whose `is_single` is true."""
    if encoding.name == "FLOAT":
        return np.frombuffer(data, "<f4").reshape(-1, channels)
    return decode(data, encoding, channels).astype(np.float32)


def decode(data: bytes | memoryview, encoding: Encoding, channels: int) -> Samples:
    """Bytes of whole frames as samples, shape (frames, channels), full scale ±1.0."""
    if not encoding.bits:
        words = np.frombuffer(data, "<f4" if encoding.width == 4 else "<f8")
        return words.astype(np.float64).reshape(-1, channels)
    if encoding.width == 3:
        parts = np.frombuffer(data, "u1").reshape(-1, 3)
        wide = np.zeros((len(parts), 4), "u1")
        wide[:, 1:] = parts
        integers = wide.reshape(-1).view("<i4") >> 8
    else:
        integers = np.frombuffer(data, f"<i{encoding.width}")
    return (integers / 2.0 ** (encoding.bits - 1)).reshape(-1, channels)
