"""Audio files as sources: whatever libsndfile reads, with one clear error for what it does not."""

import os
import re
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import soundfile
from numpy.typing import NDArray

from kind_echo.audio_io.encoding import ENCODINGS, Encoding, encode, from_words
from kind_echo.core.audio.source import LEAST_RATE, MOST, Samples, Source, blocks
from kind_echo.core.registry.errors import Invalid

ENDINGS = (".wav", ".flac", ".aiff", ".aif", ".rf64", ".w64", ".caf", ".mp3", ".ogg", ".opus")
"""Of the names of files that are looked for in a folder."""

FORMATS = "WAV, FLAC, AIFF, RF64, W64, CAF, MP3, Ogg Vorbis and Opus"
"""That are read, in words."""

_AS_STORED = {"PCM_S8": "PCM_16", "PCM_U8": "PCM_16"}  # 8 bits fit into 16 without loss
_SINGLE = {*_AS_STORED, "PCM_16", "PCM_24", "FLOAT"}  # the subtypes whose samples 32 bits hold exactly
_CHUNK = re.compile(r"^\s*(?:RIFF|FORM|Riff size|riff|data|SSND)\s*: (\d+) \(should be (\d+)\)", re.MULTILINE)
_SIZE_UNKNOWN = 0x7FFFFF00  # what programs that write to a pipe put for the size; RF64 and W64 hold greater ones
_HEADER_SLACK = 12  # bytes by which writers disagree on what a size counts


class UnreadableAudio(Invalid):
    """A file is not audio that can be read whole."""

    def __init__(self, name: str, reason: str) -> None:
        self.name, self.reason = name, reason
        super().__init__(f"{name} cannot be read as audio: {reason}.")


@dataclass(frozen=True)
class FileInfo:
    """What a file says of itself."""

    name: str
    rate: int
    channels: int
    frames: int
    subtype: str


def _as_opened(path: Path | str) -> str | bytes:
    """A path as the library takes it: as bytes where names are bytes, for one may hold no text."""
    return os.fspath(path) if sys.platform == "win32" else os.fsencode(path)


class AudioFile:
    """An open audio file; a Source. Close it, or use it in a with statement."""

    def __init__(self, path: Path | str, name: str | None = None) -> None:
        """Open a file.

        Raises:
            UnreadableAudio: it is missing, not audio, truncated, of a rate that carries none, or has no frames.
        """
        self._name = name or str(path)
        try:
            self._file = soundfile.SoundFile(_as_opened(path))
        except (soundfile.LibsndfileError, OSError) as error:
            raise UnreadableAudio(self._name, _reason(path, error)) from error
        self.info = FileInfo(
            self._name, self._file.samplerate, self._file.channels, self._file.frames, self._file.subtype
        )
        reason = self._unfit()
        if reason:
            self._file.close()
            raise UnreadableAudio(self._name, reason)

    def _unfit(self) -> str | None:
        missing = _missing_bytes(self._file.extra_info)
        if missing:
            return f"it breaks off {missing} bytes before its header says it ends"
        if self.info.frames < 1:
            return "it has no frames"
        if self.info.rate < LEAST_RATE:
            return f"its rate is {self.info.rate} Hz, and audio begins at {LEAST_RATE}"
        return None

    def __enter__(self) -> "AudioFile":
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    @property
    def rate(self) -> int:
        """Frames per second."""
        return self.info.rate

    @property
    def frames(self) -> int:
        """Length in frames."""
        return self.info.frames

    @property
    def channels(self) -> int:
        """Number of channels."""
        return self.info.channels

    @property
    def encoding(self) -> Encoding:
        """The word length in which its samples are kept without loss."""
        return ENCODINGS.get(_AS_STORED.get(self.info.subtype, self.info.subtype), ENCODINGS["FLOAT"])

    @property
    def half_step(self) -> float:
        """Half a quantisation step of its own word length."""
        return 2.0**-8 if self.info.subtype in _AS_STORED else self.encoding.half_step

    @property
    def rail(self) -> float:
        """Greatest positive sample of its own word length."""
        return 1.0 - 2.0**-7 if self.info.subtype in _AS_STORED else self.encoding.rail

    @property
    def is_single(self) -> bool:
        """Whether 32 bits hold every sample exactly."""
        return self.info.subtype in _SINGLE

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop. Raises UnreadableAudio where the file ends before it said it would."""
        samples: Samples = self._read(start, stop, "float64")
        if self.info.subtype == "DOUBLE":
            magnitude = np.abs(samples)
            samples[magnitude > MOST] = np.inf
            samples[magnitude < 1.0 / MOST] = 0.0
        return samples

    def read_single(self, start: int, stop: int) -> NDArray[np.float32]:
        """As `read`, in 32 bits: exact where `is_single`."""
        samples: NDArray[np.float32] = self._read(start, stop, "float32")
        return samples

    def read_encoded(self, start: int, stop: int) -> bytes:
        """Frames start to stop as bytes of `encoding`. Raises as `read`."""
        encoding = self.encoding
        if not encoding.bits:
            return encode(self.read(start, stop), encoding)
        return from_words(self._read(start, stop, "int16" if encoding.width == 2 else "int32"), encoding)

    def _read(self, start: int, stop: int, kind: str) -> Any:
        try:
            if self._file.tell() != start:
                self._file.seek(start)
            samples = self._file.read(stop - start, dtype=kind, always_2d=True)
        except (soundfile.LibsndfileError, OSError) as error:
            raise UnreadableAudio(self._name, f"it breaks off near frame {start}") from error
        if len(samples) != stop - start:
            raise UnreadableAudio(self._name, f"it breaks off at frame {start + len(samples)} of {self.frames}")
        return samples


def write_audio(path: Path | str, samples: Samples, rate: int, subtype: str = "FLOAT") -> None:
    """Write a file, its format by the ending of its name. Raises UnreadableAudio when libsndfile refuses."""
    try:
        soundfile.write(os.fspath(path), _words(samples, subtype), rate, subtype=subtype)
    except (soundfile.LibsndfileError, OSError, ValueError, TypeError) as error:
        raise UnreadableAudio(str(path), f"writing it failed ({error})") from error


def copy_audio(path: Path | str, source: Source, subtype: str = "FLOAT") -> None:
    """Write a source to a file, a block at a time. Raises UnreadableAudio when libsndfile refuses."""
    try:
        with soundfile.SoundFile(os.fspath(path), "w", source.rate, source.channels, subtype) as file:
            for _, block in blocks(source):
                file.write(_words(block, subtype))
    except (soundfile.LibsndfileError, OSError, ValueError, TypeError) as error:
        raise UnreadableAudio(str(path), f"writing it failed ({error})") from error


def _words(samples: Samples, subtype: str) -> Samples | NDArray[np.int32]:
    """Samples for libsndfile: for an integer file as integers, for it would scale floats by one step too little."""
    bits = ENCODINGS[subtype].bits if subtype in ENCODINGS else 0
    if not bits:
        return samples
    rail = 2.0 ** (bits - 1)
    words = np.clip(np.rint(samples * rail), -rail, rail - 1).astype(np.int64)
    return np.asarray(words << (32 - bits), dtype=np.int32)


def _missing_bytes(log: str) -> int:
    """Bytes that the file lacks of what its chunk headers promise, from libsndfile's log of them.

    libsndfile reads a truncated file as a shorter one, without a word; only its log tells.
    """
    for declared, actual in ((int(a), int(b)) for a, b in _CHUNK.findall(log)):
        if declared < _SIZE_UNKNOWN and declared - actual > _HEADER_SLACK:
            return declared - actual
    return 0


def _reason(path: Path | str, error: Exception) -> str:
    file = Path(path)
    if not file.exists():
        return "there is no such file"
    if file.is_dir():
        return "it is a folder"
    if file.stat().st_size == 0:
        return "it is empty"
    if isinstance(error, soundfile.LibsndfileError):
        return f"its format is not known, or its header is damaged; {FORMATS} are read, AAC is not"
    return str(error)
