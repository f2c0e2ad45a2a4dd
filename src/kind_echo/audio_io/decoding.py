"""Reading files of strangers in a process of its own, with limits: a hostile file can end that process, and no other.

The child (`python -m kind_echo.audio_io.decoding`) takes one line of JSON for each file, reads all of its audio, writes
it as it will be kept, and answers with one line, which the parent takes for no more than a claim.
"""

import json
import os
import select
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from types import TracebackType
from typing import Any, TypedDict, cast

from kind_echo.audio_io.encoding import ENCODINGS, Encoding, decode
from kind_echo.audio_io.files import AudioFile, UnreadableAudio
from kind_echo.audio_io.temporary import NoTemporarySpace, is_out_of_space, temporary_folder
from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.errors import Unavailable

LEAST_RATE, MOST_RATE = 1_000, 3_072_000
"""Sample rates that are taken, in Hz."""

_MEMORY = 1 << 30  # bytes of address space beside what the child has when it starts
_SECONDS = 300.0  # by the clock, for one file
_START_SECONDS = 60.0
READY = b"ready\n"
"""What a child says once it has loaded all that it needs."""

_CPU_SECONDS = 240  # of the processor, for all files of one child
_RENEW_SECONDS = 60.0  # of the processor, after which the next file has a new child
_MOST_SAID = 1 << 16  # bytes
_MOST_WRITTEN = 24 << 30  # bytes; four times what an hour of stereo at 96 kHz takes in 64 bits
_BLOCK = 1 << 16  # frames


@dataclass(frozen=True)
class Decoded:
    """Audio as it will be kept, in a file of ours; a Source. Its rate is in Hz, its samples are at full scale ±1.0."""

    path: Path
    rate: int
    frames: int
    channels: int
    subtype: str
    encoding: Encoding
    half_step: float
    rail: float
    skip: int = 0  # bytes before the samples

    def read(self, start: int, stop: int) -> Samples:
        """Frames start to stop, shape (frames, channels)."""
        return decode(self.read_encoded(start, stop), self.encoding, self.channels)

    def read_encoded(self, start: int, stop: int) -> bytes:
        """Frames start to stop as bytes of `encoding`."""
        width = self.encoding.width * self.channels
        with self.path.open("rb") as file:
            file.seek(self.skip + start * width)
            return file.read((stop - start) * width)


@dataclass(frozen=True)
class Most:
    """How much of a file is decoded: of one that has more of any, nothing is, and `frames` or `channels` tell.

    Attributes:
        samples: of all channels together.
    """

    channels: int
    seconds: float
    samples: int = 1 << 62

    def holds(self, rate: int, channels: int, frames: int) -> bool:
        """Whether a file has no more."""
        return channels <= self.channels and frames <= self.seconds * rate and frames * channels <= self.samples


class DecoderBroken(Unavailable):
    """The process that reads files cannot be started: the installation is at fault, and no file."""

    def __init__(self, reason: str) -> None:
        self.reason = reason
        super().__init__(
            f"Files cannot be read at present: the process that reads them cannot be started ({reason}). Nothing was "
            "kept; whoever runs this installation has to mend it."
        )


class _DecodeRequest(TypedDict):
    """What the child is asked for: the file to read, what it is called, and where its samples go."""

    path: str
    name: str
    to: str
    most: dict[str, Any]


class _DecodeAnswer(TypedDict, total=False):
    """What it tells of the audio; or `why` it cannot be read, or that the disk is `full`."""

    rate: int
    frames: int
    channels: int
    subtype: str
    encoding: str
    half_step: float
    rail: float
    why: str
    full: bool
    cpu: float


def _checked(said: _DecodeAnswer, target: Path, name: str, most: Most) -> Decoded:
    """What the child says, as far as it can be true: a hostile file may have made it say anything."""
    try:
        encoding = ENCODINGS[str(said["encoding"])]
        rate, frames, channels = int(said["rate"]), int(said["frames"]), int(said["channels"])
        half_step, rail, subtype = float(said["half_step"]), float(said["rail"]), str(said["subtype"])
    except (KeyError, TypeError, ValueError) as error:
        raise UnreadableAudio(name, "reading it went wrong") from error
    if not LEAST_RATE <= rate <= MOST_RATE:
        raise UnreadableAudio(name, f"its rate is {rate} Hz, and {LEAST_RATE} to {MOST_RATE} are taken")
    if frames < 1 or channels < 1:
        raise UnreadableAudio(name, "it has no frames")
    fits = most.holds(rate, channels, frames)
    if fits and (not target.exists() or target.stat().st_size != frames * channels * encoding.width):
        raise UnreadableAudio(name, "reading it went wrong")
    return Decoded(target, rate, frames, channels, subtype, encoding, half_step, rail)


def _line(source: int, seconds: float) -> bytes | None:
    """A line of the child's, or what it said before it was gone; None where none came in time, or none that ends."""
    deadline, line = time.monotonic() + seconds, b""
    while not line.endswith(b"\n") and len(line) < _MOST_SAID:
        left = deadline - time.monotonic()
        if left <= 0 or not select.select([source], [], [], left)[0]:
            return None
        piece = os.read(source, _MOST_SAID)
        if not piece:
            break
        line += piece
    return line


class Decoder:
    """Decodes one file after the other; a child that dies or hangs is ended, and the next file has a new one."""

    def __init__(self) -> None:
        self._child: subprocess.Popen[bytes] | None = None
        self._folder = temporary_folder()

    def __enter__(self) -> "Decoder":
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._end()
        self._folder.cleanup()

    @contextmanager
    def decoded(self, path: Path, name: str, most: Most) -> Iterator[Decoded]:
        """The audio of a file, until the block ends.

        Args:
            name: what the file is called in errors.

        Raises:
            UnreadableAudio: it is not audio, breaks off, has no frames, or ended the process that read it.
            NoTemporarySpace: the disk for temporary files is full.
            DecoderBroken: the process that reads files cannot be started.
        """
        target = Path(self._folder.name) / "samples"
        asked: _DecodeRequest = {"path": str(path), "name": name, "to": str(target), "most": asdict(most)}
        said = self._ask(asked, name)
        if said.get("full"):
            target.unlink(missing_ok=True)
            raise NoTemporarySpace
        if "why" in said:
            raise UnreadableAudio(name, str(said["why"]))
        try:
            yield _checked(said, target, name, most)
        finally:
            target.unlink(missing_ok=True)

    def _ask(self, asked: _DecodeRequest, name: str) -> _DecodeAnswer:
        child = self._child or self._begin()
        assert child.stdin is not None
        assert child.stdout is not None
        try:
            child.stdin.write(json.dumps(asked).encode() + b"\n")
            child.stdin.flush()
            line = _line(child.stdout.fileno(), _SECONDS)
        except OSError:
            line = b""
        if line is None or not line.endswith(b"\n"):
            self._end()
            late = "reading it took too long" if line is None else "reading it took more than it may"
            raise UnreadableAudio(name, late)
        try:
            parsed = json.loads(line)
        except ValueError:
            parsed = None
        if not isinstance(parsed, dict):
            return {}
        said = cast("_DecodeAnswer", parsed)
        # What many files took together must not count against the next.
        if not 0 <= float(said.get("cpu", 0.0)) < _RENEW_SECONDS:
            self._end()
        return said

    def _begin(self) -> subprocess.Popen[bytes]:
        plain = {"PATH": os.environ.get("PATH", os.defpath), "LC_ALL": "C.UTF-8", "OPENBLAS_NUM_THREADS": "1"}
        log = Path(self._folder.name) / "log"
        try:
            with log.open("wb") as errors:
                self._child = child = subprocess.Popen(
                    [sys.executable, "-m", "kind_echo.audio_io.decoding"],
                    stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=errors, cwd=self._folder.name, env=plain,
                )  # fmt: skip
        except OSError as error:
            raise (NoTemporarySpace() if is_out_of_space(error) else DecoderBroken(str(error))) from error
        assert child.stdout is not None
        if _line(child.stdout.fileno(), _START_SECONDS) != READY:
            self._end()
            said = log.read_text(errors="replace").strip().splitlines()
            raise DecoderBroken(said[-1] if said else "it ended without a word")
        return child

    def _end(self) -> None:
        child, self._child = self._child, None
        if child is None:
            return
        child.kill()
        child.wait()
        for pipe in (child.stdin, child.stdout):
            if pipe is not None:
                with suppress(OSError):  # what was still to be written to one that is gone
                    pipe.close()


def main() -> None:
    """The child: decode what is asked for, a line each, until there is no more."""
    _bind()
    out = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)  # what a library prints is no answer
    out.write(READY.decode())
    out.flush()
    for line in sys.stdin:
        try:
            said = _decode(json.loads(line))
        except UnreadableAudio as error:
            said = {"why": error.reason}
        except MemoryError:
            said = {"why": "reading it takes more memory than it may"}
        except OSError as error:
            said = {"full": True} if is_out_of_space(error) else {"why": f"reading it failed ({error.strerror})"}
        said["cpu"] = time.process_time()
        out.write(json.dumps(said) + "\n")
        out.flush()


def _bind() -> None:
    """Limit what this process may take; a server, which reads strangers' files, runs on POSIX systems alone."""
    if sys.platform == "win32":
        raise NotImplementedError("uploaded files are decoded under resource limits, which this system does not have")
    import resource

    pages = int(Path("/proc/self/statm").read_text().split()[0])
    space = pages * resource.getpagesize() + _MEMORY
    for what, most in (
        (resource.RLIMIT_AS, space), (resource.RLIMIT_CPU, _CPU_SECONDS), (resource.RLIMIT_FSIZE, _MOST_WRITTEN),
        (resource.RLIMIT_CORE, 0), (resource.RLIMIT_NPROC, 0),
    ):  # fmt: skip
        resource.setrlimit(what, (most, most))


def _decode(asked: _DecodeRequest) -> _DecodeAnswer:
    with AudioFile(asked["path"], asked["name"]) as audio:
        said: _DecodeAnswer = {
            "rate": audio.rate, "frames": audio.frames, "channels": audio.channels, "subtype": audio.info.subtype,
            "encoding": audio.encoding.name, "half_step": audio.half_step, "rail": audio.rail,
        }  # fmt: skip
        if not Most(**asked["most"]).holds(audio.rate, audio.channels, audio.frames):
            return said
        with Path(asked["to"]).open("wb") as target:
            for start in range(0, audio.frames, _BLOCK):
                target.write(audio.read_encoded(start, min(start + _BLOCK, audio.frames)))
    return said


if __name__ == "__main__":
    main()
