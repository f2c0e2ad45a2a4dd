"""The files that a command is given: by name, by folder, by a pattern in quotes, or on standard input."""

import atexit
import glob
import shutil
import sys
import tempfile
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from kind_echo.audio_io.files import ENDINGS, AudioFile
from kind_echo.core.registry.errors import BadParameter

STANDARD_INPUT = "-"
_MARKS = "*?["
_received: dict[str, Path] = {}


def several_files(given: Sequence[str], *, recursive: bool) -> list[str]:
    """The files that are meant, in the order given; those of a folder and of a pattern by name.

    Args:
        recursive: whether the folders in a folder are looked into as well.
    Raises:
        BadParameter: a folder or pattern has no audio in it, or standard input is one of several.
    """
    found: list[str] = []
    for one in given:
        found += _meant(one, recursive=recursive)
    if STANDARD_INPUT in found and len(found) > 1:
        raise BadParameter("FILE", "-", "the only file: standard input is read where one file is")
    return found


def _meant(given: str, *, recursive: bool) -> list[str]:
    path = Path(given)
    if path.is_dir():
        inside = sorted(path.rglob("*") if recursive else path.iterdir())
        files = [str(file) for file in inside if file.suffix.lower() in ENDINGS and file.is_file()]
        if not files:
            more = "" if recursive else "; --recursive looks into its folders"
            raise BadParameter("FILE", given, f"a folder with audio files in it ({', '.join(ENDINGS)}){more}")
        return files
    if any(mark in given for mark in _MARKS) and not path.exists():
        files = sorted(file for file in glob.glob(given, recursive=True) if Path(file).is_file())  # noqa: PTH207 - its ** may begin at any folder
        if not files:
            raise BadParameter("FILE", given, "a pattern that fits some files")
        return files
    return [given]


def one_file(given: str) -> str:
    """The one file that is meant. Raises BadParameter for a folder."""
    if Path(given).is_dir():
        raise BadParameter("FILE", given, "a file; this is a folder")
    return given


def open_audio(given: str) -> AudioFile:
    """Open a file by its name, or what comes on standard input. Raises UnreadableAudio, BadParameter."""
    return AudioFile(path_of(given), "standard input" if given == STANDARD_INPUT else given)


def path_of(given: str) -> Path:
    """Where the bytes of a file are; those of standard input are read whole, once. Raises BadParameter."""
    if given != STANDARD_INPUT:
        return Path(given)
    if given not in _received:
        _received[given] = _receive()
    return _received[given]


def _receive() -> Path:
    if sys.stdin is None or sys.stdin.isatty():
        raise BadParameter("FILE", "-", "given with something on standard input, as in 'cat a.wav | kind-echo …'")
    file = tempfile.NamedTemporaryFile(prefix="kind-echo-input-", delete=False)  # noqa: SIM115 - it is read by name
    atexit.register(_remove, Path(file.name))
    with file:
        shutil.copyfileobj(sys.stdin.buffer, file, 1 << 20)
    return Path(file.name)


def _remove(path: Path) -> None:
    with suppress(OSError):
        path.unlink()
