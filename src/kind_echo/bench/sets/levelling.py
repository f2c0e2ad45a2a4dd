"""Bringing the files of a set to one level: the trim of each, and copies that have it."""

import zipfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy.orm import Session

from kind_echo.audio_io.files import copy_audio
from kind_echo.bench.sets.keeping import find_file
from kind_echo.core.audio.align import AlignedSource, Alignment
from kind_echo.core.listening.match import By, Passage, match_level
from kind_echo.core.registry.errors import Conflict
from kind_echo.core.registry.readings import value_of
from kind_echo.database.blobs import BlobSource
from kind_echo.database.models import FileSet


class NotLevelled(Conflict):
    """A file has no level that could be brought to another."""

    def __init__(self, name: str, why: str) -> None:
        super().__init__(f"{name} cannot be brought to a level: {why}. No copies were written.")


@dataclass(frozen=True)
class Trim:
    """How a file comes to a level: target − measured = trim; None throughout, with the reason, where it cannot.

    Attributes:
        measured, target: in the unit of the measure.
        trim: dB; `factor` is the same as a factor.
        error: dB by which it is off once it was applied and measured again.
        peak: dBFS of the greatest sample afterwards.
    """

    measured: float | None
    target: float
    trim: float | None
    factor: float | None
    error: float | None
    peak: float | None
    why: str


def trim_of(session: Session, found: FileSet, number: int, target: float, by: By, passage: Passage | None) -> Trim:
    """The trim of one file of a set.

    Raises:
        SetFileNotFound: it is not in the set.
        BadParameter: the passage lies outside the file.
    """
    file = find_file(found, number)
    match = match_level(BlobSource(session, file.upload.content), target, by, passage)
    trim = value_of(match.readings, "match_gain")
    if match.factor is None or trim is None:
        why = next(reading.why for reading in match.readings if reading.measure == "match_gain")
        return Trim(None, target, None, None, None, None, why or "it has no level")
    peak = next((d["value"] for d in file.readings if d["measure"] == "sample_peak"), None)
    error = value_of(match.readings, "match_error")
    return Trim(target - trim, target, trim, match.factor, error, None if peak is None else peak + trim, "")


def levelled_zip(
    session: Session, found: FileSet, numbers: Sequence[int], target: float, by: By, passage: Passage | None, path: Path
) -> None:
    """Write copies of files, each brought to the level, into a ZIP: 32-bit float WAV, so that nothing can clip.

    Raises:
        SetFileNotFound, BadParameter: as `trim_of`.
        NotLevelled: one of them has no level.
    """
    names: set[str] = set()
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
        for number in numbers:
            file = find_file(found, number)
            trim = trim_of(session, found, number, target, by, passage)
            if trim.factor is None:
                raise NotLevelled(file.upload.name, trim.why)
            source = BlobSource(session, file.upload.content)
            copy = path.with_suffix(".wav")
            copy_audio(copy, AlignedSource(source, source.frames, Alignment(scale=trim.factor)), "FLOAT")
            archive.write(copy, _free_name(Path(file.upload.name).stem, names))
            copy.unlink()


def _free_name(stem: str, taken: set[str]) -> str:
    name, count = f"{stem}.wav", 1
    while name in taken:
        count += 1
        name = f"{stem} ({count}).wav"
    taken.add(name)
    return name
