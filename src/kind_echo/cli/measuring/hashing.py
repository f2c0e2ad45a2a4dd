"""SHA-256 of the files that a command is given, on a thread of its own from the first moment on.

For a minute of audio it takes as long as numpy takes to load.
"""

from collections.abc import Iterable
from pathlib import Path
from threading import Thread

from kind_echo.audio_io.digests import file_digest

_begun: dict[str, "_Hashing"] = {}


class _Hashing(Thread):
    def __init__(self, path: str) -> None:
        super().__init__(daemon=True)
        self.path = path
        self.digest: str | None = None

    def run(self) -> None:
        try:
            self.digest = file_digest(self.path)
        except OSError:  # whoever asks for it gets to know
            self.digest = None


def begin(arguments: Iterable[str]) -> None:
    """Begin with those of a command's arguments that are files; what an earlier command began is forgotten."""
    _begun.clear()
    for path in arguments:
        if path not in _begun and Path(path).is_file():
            _begun[path] = _Hashing(path)
            _begun[path].start()


def digest_of(path: str) -> str:
    """The digest of a file, begun earlier or not. Raises OSError where it cannot be read."""
    begun = _begun.pop(path, None)
    if begun is not None:
        begun.join()
        if begun.digest is not None:
            return begun.digest
    return file_digest(path)
