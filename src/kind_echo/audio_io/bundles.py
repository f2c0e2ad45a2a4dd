"""Bundles of evidence: a ZIP whose manifest has the SHA-256 of every file in it, signed where there is a key."""

import hashlib
import io
import json
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from pathlib import Path
from typing import IO

from kind_echo import __version__
from kind_echo.audio_io.signatures import own_key, sign

SCHEMA = "kind-echo evidence 1"
"""Of the manifest: its number is raised when what it holds changes its meaning."""

MANIFEST, READINGS, SIGNATURE = "manifest.json", "readings.json", "signature.json"

_BLOCK = 1 << 20


class Bundle:
    """A bundle that is being written; `digests` are of the files that are in it, by name."""

    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive = archive
        self.digests: dict[str, str] = {}

    def add(self, name: str, source: IO[bytes]) -> str:
        """Add a file; its digest."""
        digest = hashlib.sha256()
        # One date for all, so that the same contents make the same bundle.
        entry = zipfile.ZipInfo(name)
        entry.compress_type = zipfile.ZIP_DEFLATED
        entry.external_attr = 0o644 << 16
        with self._archive.open(entry, "w", force_zip64=True) as target:
            while block := source.read(_BLOCK):
                digest.update(block)
                target.write(block)
        self.digests[name] = digest.hexdigest()
        return self.digests[name]

    def add_text(self, name: str, text: str) -> None:
        """Add a text."""
        self.add(name, io.BytesIO(text.encode()))

    def add_json(self, name: str, told: object) -> None:
        """Add an object as JSON."""
        self.add_text(name, _json(told))


def _json(told: object) -> str:
    return json.dumps(told, allow_nan=False, ensure_ascii=False, indent=1) + "\n"


@contextmanager
def writing(path: Path, made: datetime) -> Iterator[Bundle]:
    """A bundle that is there, with its manifest, once the block ends; nothing of it where the block fails.

    Args:
        made: when what it holds was found.
    Raises:
        BadKey: it should be signed, and cannot be; then nothing was begun.
    """
    key = own_key()
    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_name(f".{path.name}.part")
    try:
        with zipfile.ZipFile(beside, "w", zipfile.ZIP_DEFLATED) as archive:
            bundle = Bundle(archive)
            yield bundle
            when = made.isoformat(timespec="seconds")
            files = dict(bundle.digests)
            manifest = _json({"schema": SCHEMA, "version": __version__, "made": when, "files": files})
            bundle.add_text(MANIFEST, manifest)
            if key is not None:
                bundle.add_json(SIGNATURE, sign(key, manifest.encode()))
        beside.replace(path)
    finally:
        beside.unlink(missing_ok=True)
