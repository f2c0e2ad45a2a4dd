"""What names a file's bytes."""

import hashlib
from pathlib import Path


def file_digest(path: Path | str) -> str:
    """SHA-256 of a file's bytes, in hexadecimal."""
    with Path(path).open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
