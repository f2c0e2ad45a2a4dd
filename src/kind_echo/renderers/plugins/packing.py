"""Plug-ins as one file: a folder is packed as ZIP; what comes is checked before it is unpacked."""

import os
import shutil
import stat
import zipfile
from pathlib import Path, PurePosixPath

from kind_echo.renderers.plugins.model import HostFailed
from kind_echo.renderers.plugins.standards import standard_of
from kind_echo.renderers.plugins.watched import plugin_files

MOST_UNPACKED = 2_000_000_000
"""Bytes of a plug-in with all that belongs to it."""

_MOST_FILES = 20_000
_TIME = (1980, 1, 1, 0, 0, 0)
"""Of each member: the same folder makes the same ZIP."""


def pack(plugin: Path, target: Path) -> None:
    """One file of a plug-in: itself, or a ZIP of its folder, which is the same for the same files."""
    if plugin.is_file():
        shutil.copyfile(plugin, target)
        return
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as packed:
        for file in sorted(path for path in plugin.rglob("*") if path.is_file()):
            member = zipfile.ZipInfo(f"{plugin.name}/{file.relative_to(plugin).as_posix()}", _TIME)
            member.compress_type = zipfile.ZIP_DEFLATED
            member.external_attr = (0o755 if os.access(file, os.X_OK) else 0o644) << 16
            with file.open("rb") as source, packed.open(member, "w") as out:
                shutil.copyfileobj(source, out)


def check_package(path: Path, name: str) -> None:
    """Look at an uploaded file without unpacking it.

    Raises:
        HostFailed: it is empty, a ZIP that cannot be read, or one that holds what must not be unpacked or no plug-in.
    """
    standard = standard_of(Path(name))
    if "/" in name or "\\" in name or name.startswith("."):
        raise HostFailed(f"{name!r} is no name of a plug-in's file")
    if path.stat().st_size == 0:
        raise HostFailed(f"{name} is empty")
    if not zipfile.is_zipfile(path):
        return
    members = _members(path, name)
    ends = [PurePosixPath(member.filename) for member in members]
    holds = any(part.lower().endswith(standard.ending) for end in ends for part in end.parts)
    if not holds:
        raise HostFailed(f"{name} is a ZIP that holds no {standard.ending}")


def unpack(path: Path, name: str, folder: Path) -> Path:
    """The plug-in of an uploaded file, unpacked into a folder. Raises HostFailed."""
    check_package(path, name)
    folder.mkdir(parents=True, exist_ok=True)
    if not zipfile.is_zipfile(path):
        target = folder / name
        shutil.copyfile(path, target)
        target.chmod(0o755)
        return target
    ending = standard_of(Path(name)).ending
    with zipfile.ZipFile(path) as packed:
        for member in _members(path, name):
            made = Path(packed.extract(member, folder))
            if made.is_file():
                made.chmod(0o755)
    found = plugin_files(folder, ending)
    if len(found) != 1:
        raise HostFailed(f"{name} holds {len(found)} plug-ins that end with {ending}, and not one")
    return found[0]


def _members(path: Path, name: str) -> list[zipfile.ZipInfo]:
    try:
        with zipfile.ZipFile(path) as packed:
            members = packed.infolist()
    except (zipfile.BadZipFile, OSError, NotImplementedError) as error:
        raise HostFailed(f"{name} cannot be unpacked: {error}") from error
    if len(members) > _MOST_FILES or sum(member.file_size for member in members) > MOST_UNPACKED:
        raise HostFailed(f"{name} unpacks to more than {MOST_UNPACKED // 10**9} GB or {_MOST_FILES} files")
    for member in members:
        parts = PurePosixPath(member.filename.replace("\\", "/")).parts
        is_link = stat.S_ISLNK(member.external_attr >> 16)
        if ".." in parts or member.filename.startswith(("/", "\\")) or is_link or ":" in member.filename:
            raise HostFailed(f"{name} holds {member.filename!r}, which would lie outside of its folder or is a link")
        if member.flag_bits & 1:
            raise HostFailed(f"{name} is encrypted")
    return members
