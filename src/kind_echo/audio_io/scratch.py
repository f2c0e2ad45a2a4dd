"""Long audio in a temporary file while it is worked on: a comparison reads it ten times, and unpacks it once."""

import shutil
import tempfile
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray

from kind_echo.audio_io.decoding import Decoded
from kind_echo.audio_io.encoding import ENCODINGS
from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.core.audio.resampling import resample
from kind_echo.core.audio.source import BLOCK, FLOAT_HALF_STEP, ArraySource, Derived, Samples, SingleSource, Source

_HELD = 1 << 24  # samples of all channels that are resampled in memory
_SPARED = 0.5  # of the free space, that is left to others


@dataclass(frozen=True)
class ScratchSource(Derived):
    """The samples of a source, from a file of 32 bits where these hold them exactly, else of 64.

    The file has one position: not for several threads at once.
    """

    file: BinaryIO
    kind: np.dtype[np.float32] | np.dtype[np.float64]

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop."""
        width = self.kind.itemsize * self.channels
        self.file.seek(start * width)
        data = self.file.read((stop - start) * width)
        return np.frombuffer(data, self.kind).reshape(-1, self.channels).astype(np.float64)


def to_scratch(source: Source, until: ExitStack) -> Source:
    """A source that is not in memory, laid out in a temporary file; as it is where there is no room for that.

    Args:
        until: closes the file, and with it the source.
    """
    if isinstance(source, ArraySource):
        return source
    kind = np.dtype(np.float32) if isinstance(source, SingleSource) and source.is_single else np.dtype(np.float64)
    needed = source.frames * source.channels * kind.itemsize
    if needed > (1 - _SPARED) * shutil.disk_usage(tempfile.gettempdir()).free:
        return source
    file = until.enter_context(tempfile.TemporaryFile())  # noqa: SIM115 - closed by what it is entered into
    for start in range(0, source.frames, BLOCK):
        samples = np.ascontiguousarray(_samples(source, start, min(start + BLOCK, source.frames)), kind)
        try:
            file.write(samples.data)
            file.flush()
        except OSError:  # somebody else was quicker to take the space
            file.truncate(0)
            return source
    return ScratchSource(source, file, kind)


def resampled(source: Source, rate: int, until: ExitStack) -> Source:
    """A source at another rate, in soxr's very high quality; long ones are written to a temporary file.

    Args:
        until: removes the file.
    """
    frames = source.frames * rate // source.rate + 1
    if frames * source.channels <= _HELD:
        return ArraySource(resample(source.read(0, source.frames), source.rate, rate), rate)
    import soxr  # slow to load, and few commands need it

    stream = soxr.ResampleStream(source.rate, rate, source.channels, "float64", "VHQ")
    path, made = Path(until.enter_context(temporary_folder())) / "samples", 0
    with path.open("wb") as file:
        for start in range(0, source.frames, BLOCK):
            stop = min(start + BLOCK, source.frames)
            samples = stream.resample_chunk(source.read(start, stop), last=stop == source.frames)
            file.write(np.ascontiguousarray(samples, np.float64).data)
            made += len(samples)
    double = ENCODINGS["DOUBLE"]
    return Decoded(path, rate, made, source.channels, double.name, double, FLOAT_HALF_STEP, 1.0)


def _samples(source: Source, start: int, stop: int) -> NDArray[np.float32] | Samples:
    if isinstance(source, SingleSource) and source.is_single:
        return source.read_single(start, stop)
    return source.read(start, stop)
