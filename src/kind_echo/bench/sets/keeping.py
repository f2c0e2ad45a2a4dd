"""Sets of files: made, changed, duplicated, deleted."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session, selectinload

from kind_echo.bench.accounts import Caller
from kind_echo.bench.queue import drop_unused, measure_set_files
from kind_echo.bench.sets.options import SetOptions, options_from
from kind_echo.bench.signals import UploadNotFound, delete_uploads
from kind_echo.core.registry.documents import LimitDocument
from kind_echo.core.registry.errors import BadParameter, Conflict, NotFound
from kind_echo.core.registry.measures import find_measure
from kind_echo.database.models import FileSet, Pair, SetFile, Signal, Upload
from kind_echo.database.states import FileRole

MOST_FILES = 200


class SetNotFound(NotFound):
    """A set is asked for that is not there."""

    def __init__(self, set_id: int) -> None:
        self.set_id = set_id
        super().__init__(f"There is no set of files {set_id}.")


class SetFileNotFound(NotFound):
    """A file is named that the set does not have."""

    def __init__(self, file_id: int) -> None:
        self.file_id = file_id
        super().__init__(f"There is no file {file_id} in this set.")


class SetFull(Conflict):
    """A set would have more files than one may have."""

    def __init__(self, have: int, more: int) -> None:
        super().__init__(f"A set has up to {MOST_FILES} files; this one has {have}, and {more} more do not fit.")


@dataclass(frozen=True)
class NewFile:
    """A file that was uploaded, and the folder that it came from, empty for none."""

    upload_id: int
    folder: str = ""


def new_set(session: Session, name: str, options: SetOptions, *, who: str, now: datetime) -> FileSet:
    """An empty set."""
    made = FileSet(name=name, options=options.document(), brought_by=who, created_at=now)
    session.add(made)
    session.flush()
    return made


def find_set(session: Session, set_id: int, *, lock: bool = False) -> FileSet:
    """A set with its files. Raises SetNotFound."""
    query = select(FileSet).where(FileSet.id == set_id)
    if lock:
        query = query.with_for_update()
    found = session.scalar(
        query.options(selectinload(FileSet.files).selectinload(SetFile.upload).selectinload(Upload.content))
    )
    if found is None:
        raise SetNotFound(set_id)
    return found


def find_file(found: FileSet, number: int) -> SetFile:
    """A file of a set. Raises SetFileNotFound."""
    file = next((one for one in found.files if one.id == number), None)
    if file is None:
        raise SetFileNotFound(number)
    return file


def list_sets(session: Session, before: int | None = None, count: int = 50) -> list[tuple[FileSet, int]]:
    """The newest sets, each with how many files it has; those older than set `before`, where it is given."""
    files = select(SetFile.set_id, func.count().label("files")).group_by(SetFile.set_id).subquery()
    query = select(FileSet, func.coalesce(files.c.files, 0)).outerjoin(files, files.c.set_id == FileSet.id)
    if before is not None:
        query = query.where(FileSet.id < before)
    return [(one, int(many)) for one, many in session.execute(query.order_by(FileSet.id.desc()).limit(count))]


def add_files(session: Session, found: FileSet, files: Sequence[NewFile]) -> None:
    """Add uploaded files to a set, and have them measured.

    Raises:
        UploadNotFound: one of them is not there.
        SetFull: there would be too many.
    """
    if len(found.files) + len(files) > MOST_FILES:
        raise SetFull(len(found.files), len(files))
    known = set(session.scalars(select(Upload.id).where(Upload.id.in_([one.upload_id for one in files]))))
    for one in files:
        if one.upload_id not in known:
            raise UploadNotFound(one.upload_id)
    added = [SetFile(set_id=found.id, upload_id=one.upload_id, folder=one.folder) for one in files]
    session.add_all(added)
    session.flush()
    session.expire(found, ["files"])
    measure_set_files(session, [one.id for one in added], found.revision)


def change_options(session: Session, found: FileSet, options: SetOptions, roles: Mapping[int, FileRole]) -> None:
    """Measure the files of a set in another way, or against another of them; nothing where nothing changes.

    Args:
        roles: of its files by number; those that are not named are plain files. One may be the reference or the input.

    Raises:
        SetFileNotFound: a role is given to a file that is not in the set.
        BadParameter: two files are to be the reference, or what is asked for cannot be measured.
    """
    for number in roles:
        find_file(found, number)
    if sum(role != "file" for role in roles.values()) > 1:
        raise BadParameter("roles", len(roles), "one reference or one input signal")
    _check(session, options)
    wanted = {one.id: roles.get(one.id, "file") for one in found.files}
    if options == options_from(found.options) and wanted == {one.id: one.role for one in found.files}:
        return
    found.options = options.document()
    for one in found.files:
        one.role = wanted[one.id]
    measure_all(session, found)


def measure_all(session: Session, found: FileSet) -> None:
    """Measure all files of a set anew; what was found of them before goes."""
    found.revision += 1
    pairs = [one.pair for one in found.files if one.pair is not None]
    for one in found.files:
        one.state, one.why, one.readings, one.curves, one.pair_id = "measuring", "", [], [], None
    _delete_pairs(session, pairs)
    delete_uploads(session, {pair.render_id for pair in pairs})
    measure_set_files(session, [one.id for one in found.files], found.revision)


def _check(session: Session, options: SetOptions) -> None:
    if options.also == "tone" and not (options.frequency and options.frequency > 0.0):
        raise BadParameter("frequency", options.frequency, "that of the tone, in Hz")
    if options.also == "signal" and (options.signal_id is None or session.get(Signal, options.signal_id) is None):
        raise BadParameter("signal_id", options.signal_id, "a signal of the library")


def choose_columns(found: FileSet, columns: Sequence[str], limits: Mapping[str, LimitDocument]) -> None:
    """Show other measures, and judge them by other limits. Raises UnknownMeasure."""
    for key in (*columns, *limits):
        find_measure(key)
    found.columns = list(dict.fromkeys(columns))
    found.limits = dict(limits)


def copy_set(session: Session, found: FileSet, name: str, *, who: str, now: datetime) -> FileSet:
    """An empty set that is measured, shown and judged in the same way, for other files."""
    made = new_set(session, name, options_from(found.options), who=who, now=now)
    made.note, made.columns, made.limits = found.note, list(found.columns), dict(found.limits)
    session.flush()
    return made


def remove_files(session: Session, found: FileSet, numbers: Iterable[int], caller: Caller) -> None:
    """Take files out of a set; their audio goes in a while, unless something else has it.

    Raises:
        SetFileNotFound: one of them is not in it.
        NotAllowed: the set is somebody else's, and the caller keeps nothing here.
    """
    need_own(found, caller)
    going = [find_file(found, number) for number in dict.fromkeys(numbers)]
    _remove(session, going)
    session.expire(found, ["files"])
    if any(one.role != "file" for one in going):
        measure_all(session, found)


def delete_set(session: Session, found: FileSet, caller: Caller) -> None:
    """Delete a set with its files, but for those that something else has. Raises NotAllowed."""
    need_own(found, caller)
    _remove(session, found.files)
    session.expire(found, ["files"])
    session.delete(found)
    session.flush()


def need_own(found: FileSet, caller: Caller) -> None:
    """Raises NotAllowed where a set is somebody else's and the caller keeps nothing here."""
    if caller.name != found.brought_by:
        caller.need("keep")


def _remove(session: Session, files: Sequence[SetFile]) -> None:
    pairs = [one.pair for one in files if one.pair is not None]
    uploads = {one.upload_id for one in files} | {pair.render_id for pair in pairs}
    for one in files:
        session.delete(one)
    _delete_pairs(session, pairs)
    delete_uploads(session, uploads)
    drop_unused(session)


def _delete_pairs(session: Session, pairs: Sequence[Pair]) -> None:
    session.flush()
    for pair in pairs:
        session.delete(pair)
    session.flush()
