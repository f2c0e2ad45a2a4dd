"""ZIPs of strangers: read member by member, bounded in count and size; no name in one is ever used as a path."""

import stat
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from kind_echo.core.registry.errors import Invalid

_PIECE = 1 << 20
_HIDDEN = ("__MACOSX", ".")
# What zipfile raises for an archive or a member that is damaged, encrypted, or packed in a way that it does not know.
_BROKEN = (
    zipfile.BadZipFile, zlib.error, NotImplementedError, RuntimeError, OSError, EOFError, ValueError, struct.error,
    MemoryError, OverflowError,
)  # fmt: skip


class UnreadableArchive(Invalid):
    """A ZIP, or a member of one, cannot be read, or holds more than is taken."""

    def __init__(self, name: str, reason: str) -> None:
        self.name, self.reason = name, reason
        super().__init__(f"{name} cannot be unpacked: {reason}.")


@dataclass(frozen=True)
class Member:
    """A file in a ZIP: its name without folders, and how the ZIP knows it."""

    name: str
    info: zipfile.ZipInfo

    @property
    def is_link(self) -> bool:
        """Whether it stands for another file, on a machine that is not this one."""
        return stat.S_ISLNK(self.info.external_attr >> 16)


class Archive:
    """An open ZIP."""

    def __init__(self, archive: zipfile.ZipFile, members: list[Member]) -> None:
        self._archive, self.members = archive, members

    def unpack(self, member: Member, target: Path) -> None:
        """Write a member to a file of ours; no more than the ZIP says that it has. Raises UnreadableArchive."""
        if member.is_link:
            raise UnreadableArchive(member.name, "it is a link to another file")
        left = member.info.file_size
        try:
            with self._archive.open(member.info) as source, target.open("wb") as file:
                while piece := source.read(_PIECE):
                    left -= len(piece)
                    if left < 0:
                        raise OSError("it is longer than it says")
                    file.write(piece)
        except _BROKEN as error:
            raise UnreadableArchive(member.name, str(error) or "it is damaged") from error

    def read(self, member: Member, most: int) -> bytes:
        """A small member's bytes. Raises UnreadableArchive for one of more than `most`."""
        if member.info.file_size > most or member.is_link:
            raise UnreadableArchive(member.name, f"it has more than {most} bytes, or is a link")
        try:
            with self._archive.open(member.info) as source:
                return source.read(most)
        except _BROKEN as error:
            raise UnreadableArchive(member.name, str(error) or "it is damaged") from error


def is_archive(path: Path) -> bool:
    """Whether a file is a ZIP by what it holds, whatever it is called."""
    try:
        return zipfile.is_zipfile(path)
    except _BROKEN:
        return False


@contextmanager
def opened(path: Path, name: str, most_files: int, most_bytes: int) -> Iterator[Archive]:
    """A ZIP, until the block ends; folders, and what machines add of their own, are left out.

    Raises:
        UnreadableArchive: it is damaged, or holds more than is taken.
    """
    try:
        archive = zipfile.ZipFile(path)
    except _BROKEN as error:
        raise UnreadableArchive(name, "it is damaged") from error
    with archive:
        found = [info for info in archive.infolist() if not info.is_dir() and not _hidden(info.filename)]
        if len(found) > most_files:
            raise UnreadableArchive(name, f"it holds {len(found)} files, and up to {most_files} are taken")
        if sum(info.file_size for info in found) > most_bytes:
            raise UnreadableArchive(name, f"it unpacks to more than {most_bytes / 1e9:.1f} GB")
        members = [Member(PurePosixPath(info.filename.replace("\\", "/")).name or "a file", info) for info in found]
        yield Archive(archive, members)


def _hidden(name: str) -> bool:
    parts = PurePosixPath(name.replace("\\", "/")).parts
    return any(part.startswith(_HIDDEN) for part in parts if part != "..")
