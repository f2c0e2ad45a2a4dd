"""Encoded samples in less space, without loss: FLAC for words of 16 and 24 bits, zstd for all others.

Which one was measured on the demo's renders and own files (docs/operations.md): FLAC takes half of what zstd takes for
integers; floats, which FLAC has no word for, shrink most when their bytes are sorted by significance first, since those
of sign and exponent hardly change from sample to sample.
"""

import io
from typing import Any, Literal

import numpy as np
import soundfile
import zstandard
from numpy.typing import NDArray

from kind_echo.audio_io.encoding import Encoding, decode, decode_single, from_words
from kind_echo.core.audio.source import Samples

Packing = Literal["none", "flac", "zstd"]

_LEVEL = 3  # of zstd: higher ones gain 2 % and take four times as long
_FLACS_CHANNELS, _FLACS_RATE = 8, 48_000  # the rate changes no sample, and FLAC does not take every one
_FLACS_LEAST = 16  # frames; fewer gain nothing over FLAC's own head


class DamagedAudio(Exception):
    """Packed audio does not unpack to what was packed."""


def pack(data: bytes, encoding: Encoding, channels: int) -> tuple[Packing, bytes]:
    """Bytes of whole frames, packed; as they are where packing gains nothing."""
    if encoding.bits in (16, 24) and channels <= _FLACS_CHANNELS and len(data) >= _FLACS_LEAST * encoding.width:
        how: Packing = "flac"
        packed = _to_flac(data, encoding, channels)
    else:
        how, packed = "zstd", zstandard.compress(_by_significance(data, encoding.width, channels), _LEVEL)
    return (how, packed) if len(packed) < len(data) else ("none", data)


def unpack(packing: str, data: bytes, encoding: Encoding, channels: int) -> bytes:
    """What `pack` was given. Raises DamagedAudio."""
    if packing == "flac":
        return _from_flac(data, encoding)
    if packing == "zstd":
        try:
            return _by_frame(zstandard.decompress(data), encoding.width, channels)
        except (zstandard.ZstdError, ValueError) as error:
            raise DamagedAudio(f"packed audio is damaged ({error})") from error
    return data


def unpack_samples(packing: str, data: bytes, encoding: Encoding, channels: int) -> Samples:
    """What was packed as samples, shape (frames, channels), without decoding it twice. Raises DamagedAudio."""
    if packing == "flac":
        return np.asarray(_read_flac(data, "float64"), np.float64)
    return decode(unpack(packing, data, encoding, channels), encoding, channels)


def unpack_single(packing: str, data: bytes, encoding: Encoding, channels: int) -> NDArray[np.float32]:
    """As `unpack_samples`, in 32 bits, for an encoding that `is_single`."""
    if packing == "flac":
        return np.asarray(_read_flac(data, "float32"), np.float32)
    return decode_single(unpack(packing, data, encoding, channels), encoding, channels)


def _by_significance(data: bytes, width: int, channels: int) -> bytes:
    """All lowest bytes of the first channel, then its next higher ones, then the next channel's."""
    frames = np.frombuffer(data, np.uint8).reshape(-1, channels, width)
    return np.ascontiguousarray(frames.transpose(1, 2, 0)).tobytes()


def _by_frame(data: bytes, width: int, channels: int) -> bytes:
    planes = np.frombuffer(data, np.uint8).reshape(channels, width, -1)
    return np.ascontiguousarray(planes.transpose(2, 0, 1)).tobytes()


def _to_flac(data: bytes, encoding: Encoding, channels: int) -> bytes:
    if encoding.width == 2:
        words = np.frombuffer(data, "<i2")
    else:
        wide = np.zeros((len(data) // 3, 4), np.uint8)
        wide[:, 1:] = np.frombuffer(data, np.uint8).reshape(-1, 3)
        words = wide.reshape(-1).view("<i4")
    file = io.BytesIO()
    soundfile.write(file, words.reshape(-1, channels), _FLACS_RATE, format="FLAC", subtype=encoding.name)
    return file.getvalue()


def _from_flac(data: bytes, encoding: Encoding) -> bytes:
    return from_words(_read_flac(data, "int16" if encoding.width == 2 else "int32"), encoding)


def _read_flac(data: bytes, dtype: str) -> NDArray[Any]:
    """Shape (frames, channels)."""
    try:
        samples, _ = soundfile.read(io.BytesIO(data), dtype=dtype, always_2d=True)
    except (soundfile.LibsndfileError, ValueError) as error:
        raise DamagedAudio(f"packed audio is damaged ({error})") from error
    return np.asarray(samples)
