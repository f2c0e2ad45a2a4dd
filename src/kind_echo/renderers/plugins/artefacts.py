"""Uploaded plug-ins on a render machine: fetched by digest, unpacked into a cache of bounded size, never installed."""

import hashlib
import os
import shutil
import tempfile
from pathlib import Path

from kind_echo.audio_io.own_folder import cache_folder
from kind_echo.renderers.contract import RenderFailed, UploadedBuild
from kind_echo.renderers.plugins.model import HostFailed
from kind_echo.renderers.plugins.packing import unpack
from kind_echo.renderers.plugins.watched import plugin_files

ACCEPT_VARIABLE = "KIND_ECHO_ACCEPT_ARTEFACTS"
"""Set to 1 on a machine that runs what build servers upload; off unless set."""

CACHE_VARIABLE = "KIND_ECHO_ARTEFACT_CACHE_GB"
_CACHE_GB = 10.0


def accepts_artefacts() -> bool:
    """Whether this machine runs what build servers upload."""
    return os.environ.get(ACCEPT_VARIABLE, "") == "1"


def unpacked(build: UploadedBuild) -> Path:
    """The plug-in of an uploaded build on this machine; fetched where it is not here yet. Raises RenderFailed."""
    if not accepts_artefacts():
        raise RenderFailed("this machine does not run what build servers upload")
    root = _root()
    own = root / build.sha256
    ending = Path(build.name).suffix.lower()
    here = plugin_files(own, ending) if own.is_dir() else []
    if here:
        os.utime(own)  # the one that was used last is dropped last
        return here[0]
    shutil.rmtree(own, ignore_errors=True)
    _make_room(root)
    with tempfile.TemporaryDirectory(prefix="arriving-", dir=root) as arriving:
        file, folder = Path(arriving) / "file", Path(arriving) / "unpacked"
        build.fetch(file)
        with file.open("rb") as opened:
            if hashlib.file_digest(opened, "sha256").hexdigest() != build.sha256:
                raise RenderFailed(f"{build.name} arrived with other bytes than the server said")
        try:
            unpack(file, build.name, folder)
        except HostFailed as error:
            raise RenderFailed(str(error)) from error
        try:
            folder.rename(own)
        except OSError:
            if not own.is_dir():  # another worker was faster
                raise
    return plugin_files(own, ending)[0]


def _root() -> Path:
    folder = cache_folder()
    if folder is None:
        raise RenderFailed("this machine has no folder to keep uploaded builds in")
    root = folder / "artefacts"
    root.mkdir(parents=True, exist_ok=True)
    return root


def _make_room(root: Path) -> None:
    """Drop what was used longest ago, until the cache is within its size."""
    most = float(os.environ.get(CACHE_VARIABLE, _CACHE_GB)) * 1e9
    kept = sorted((path for path in root.iterdir() if path.is_dir()), key=lambda path: path.stat().st_mtime)
    sizes = {path: sum(file.stat().st_size for file in path.rglob("*") if file.is_file()) for path in kept}
    held = sum(sizes.values())
    for path in kept:
        if held <= most:
            return
        shutil.rmtree(path, ignore_errors=True)
        held -= sizes[path]
