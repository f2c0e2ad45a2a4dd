"""Files that come back from a render kit: which render each one is, and what is asked where that is in doubt."""

import csv
import io
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path, PurePosixPath

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.audio_io.archives import UnreadableArchive, is_archive, opened
from kind_echo.audio_io.decoding import Decoder
from kind_echo.audio_io.files import UnreadableAudio
from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.kits.cutting import LIKE, LOOKED_INTO_SECONDS, cut, loudest
from kind_echo.bench.kits.packing import (
    MANIFEST,
    Place,
    can_be_had,
    mark_of,
    places_of,
)
from kind_echo.bench.queue import measure_returned_cell, recognise_kit_file
from kind_echo.bench.rendering import keep_render
from kind_echo.bench.runs import find_cell, tell_change
from kind_echo.bench.signals import MOST_BYTES, UploadRefused, keep_audio, make_stimulus
from kind_echo.bench.verdicts import forget_verdict
from kind_echo.core.audio.source import Samples
from kind_echo.core.levels.marks import find_sound
from kind_echo.core.registry.errors import Conflict, NotFound
from kind_echo.core.registry.names import file_name
from kind_echo.database.blobs import BlobSource
from kind_echo.database.models import Cell, Event, KitFile, Render, Run
from kind_echo.renderers.takes import Rendered
from kind_echo.wording.conditions import rate_text

MOST_FILES = 5000
"""Files that a ZIP may hold."""

_AHEAD = 1.5  # and by which factor it must stand above the next
_NUMBER = re.compile(r"^0*(\d{1,9})-")
_TAKE = re.compile(r"-take(\d{1,3})(?:\D|$)")
_MOST_MANIFEST = 10_000_000  # bytes


class KitFileNotFound(NotFound):
    """A returned file is named that is not there."""

    def __init__(self, file_id: int) -> None:
        self.file_id = file_id
        super().__init__(f"There is no returned file {file_id}.")


class CannotAssign(Conflict):
    """A returned file cannot be taken for a cell."""

    def __init__(self, reason: str) -> None:
        self.reason = reason
        super().__init__(f"Nothing was changed: {reason}.")


@dataclass(frozen=True)
class Refused:
    """A file that was not kept, and why."""

    name: str
    why: str


@dataclass(frozen=True)
class Receipt:
    """What became of an upload: files that were kept, to be recognised by a worker, and those that were not."""

    kept: list[KitFile] = field(default_factory=list)
    refused: list[Refused] = field(default_factory=list)


def receive(session: Session, run_id: int, path: Path, name: str, *, who: str, now: datetime) -> Receipt:
    """Keep what was uploaded to `path`: one file of audio, or a ZIP of them with or without the kit's manifest.

    What cannot be kept is told, and keeps nothing else from being kept.

    Raises:
        RunNotFound, NothingByHand: there is no such kit.
        UnreadableArchive: a ZIP that is damaged, or holds more than is taken.
    """
    places = places_of(session, run_id)
    with Decoder() as decoder:
        at = _Arriving(session, decoder, run_id, places, who, now)
        if is_archive(path):
            _receive_zip(at, path, name)
        else:
            _keep(at, _named(places, name, {}), path, name)
        return at.receipt


def recognise(session: Session, file_id: int) -> None:
    """Find out which render a returned file is; enqueue its measuring where that is plain.

    Raises KitFileNotFound.
    """
    file = find_kit_file(session, file_id)
    # Two files that come for the same cell at once are looked at one after the other.
    session.execute(select(Run.id).where(Run.id == file.run_id).with_for_update())
    session.refresh(file)
    if file.state != "received":
        return
    places = places_of(session, file.run_id)
    named = next((p for p in places if (p.cell.id, p.take) == (file.named_for, file.take)), None)
    source = BlobSource(session, file.content)
    here = [place for place in places if place.rate == source.rate]
    sound, told = _sound_in(session, source, here)
    taken = _taken(session, file.run_id)
    alike = [place for place in here if place.sound == sound]
    rate = rate_text(source.rate)
    if named is not None and named.rate != source.rate:
        _doubt(file, alike or here, f"It is named for {rate_text(named.rate)}, and is at {rate}")
    elif named is not None and sound is not None and named.sound != sound:
        _doubt(file, [named, *alike], f"It is named for one signal, and its {told} is that of another")
    elif named is not None and (named.cell.id, named.take) in taken:
        _doubt(file, [named], "Another file has come back for that render already")
    elif named is not None:
        says = f"its {told} says the same" if sound is not None else "no mark is to be found in it"
        _take_for(session, file, named.cell, named.take, f"By {file.named_by}; {says}")
    elif sound is None:
        file.state = "unknown"
        file.why = "No signal of this kit is in it" if here else f"It is at {rate}, and nothing of this kit is"
    else:
        _take_by_sound(session, file, alike, taken, told)
    tell_change(session, file.run_id)


def assign(session: Session, file_id: int, cell_id: int, take: int | None, *, who: str, now: datetime) -> KitFile:
    """A person says which render a file is; a file that was taken for it before is doubtful again.

    Args:
        take: None for the first that is missing, or else the first.

    Raises:
        KitFileNotFound: there is no such file.
        CannotAssign: the cell is none of the kit's, or the file's rate is another.
    """
    file = find_kit_file(session, file_id)
    session.execute(select(Run.id).where(Run.id == file.run_id).with_for_update())
    taken = _taken(session, file.run_id)
    asked = [p for p in places_of(session, file.run_id) if p.cell.id == cell_id]
    missing = [p.take for p in asked if (cell_id, p.take) not in taken]
    take = take or (missing[0] if missing else 1)
    place = next((p for p in asked if p.take == take), None)
    if place is None:
        raise CannotAssign(f"take {take} of cell {cell_id} is not asked for by this kit")
    if place.rate != file.content.rate:
        raise CannotAssign(f"{file.name} is at {file.content.rate} Hz, and the cell at {place.rate} Hz")
    if file.cell_id is not None and (file.cell_id, file.take) != (cell_id, take):
        _take_away(session, file.cell_id)
    former = taken.get((cell_id, take))
    if former is not None and former.id != file.id:
        _doubt(former, [place], f"{who} has taken {file.name} for that render instead")
        former.cell_id = None
    _take_for(session, file, place.cell, take, f"{who} said so")
    session.add(Event(at=now, who=who, what="kit file assigned", detail={"file": file.id, "cell": cell_id}))
    tell_change(session, file.run_id)
    return file


def give_up(session: Session, file_id: int, reason: str) -> None:
    """Say of a file that it could not be recognised, so that a person decides. Raises KitFileNotFound."""
    file = find_kit_file(session, file_id)
    file.state, file.why = "unknown", reason
    tell_change(session, file.run_id)


def discard(session: Session, file_id: int, *, who: str, now: datetime) -> None:
    """Forget a file that belongs to no render. Raises KitFileNotFound, CannotAssign for one that is matched."""
    file = find_kit_file(session, file_id)
    if file.state == "matched":
        raise CannotAssign(f"{file.name} is the render of a cell; take another file for it instead")
    session.add(Event(at=now, who=who, what="kit file discarded", detail={"file": file.id, "name": file.name}))
    session.delete(file)


def measure_returned(session: Session, cell: Cell, now: datetime) -> Render:
    """Measure a cell of which all takes have come back, as any render is. Raises RenderFailed, BadParameter."""
    files = sorted(
        (file for (cell_id, _), file in _taken(session, cell.run_id).items() if cell_id == cell.id),
        key=lambda file: file.take,
    )
    stimulus = _stimulus(session, cell)
    results = [cut(session, cell, file, stimulus) for file in files]
    return keep_render(session, cell, stimulus, Rendered(tuple(results), None, 0.0), now)


def kit_files(session: Session, run_id: int) -> list[KitFile]:
    """All that came back for a run, newest first."""
    return list(session.scalars(select(KitFile).where(KitFile.run_id == run_id).order_by(KitFile.id.desc())))


def find_kit_file(session: Session, file_id: int) -> KitFile:
    """A returned file. Raises KitFileNotFound."""
    file = session.get(KitFile, file_id)
    if file is None:
        raise KitFileNotFound(file_id)
    return file


def _receive_zip(at: "_Arriving", path: Path, name: str) -> None:
    with (
        opened(path, name, MOST_FILES, MOST_BYTES) as archive,
        temporary_folder() as folder,
    ):
        renamed: dict[str, tuple[int, int]] = {}
        for member in archive.members:
            if member.name.lower() == MANIFEST:
                try:
                    renamed |= _read_manifest(archive.read(member, _MOST_MANIFEST), at.places)
                except (UnreadableArchive, csv.Error) as error:
                    at.receipt.refused.append(Refused(MANIFEST, f"it cannot be read ({error})"))
        unpacked = Path(folder) / "render"
        for member in archive.members:
            if member.name.lower() in (MANIFEST, "instructions.html"):
                continue
            try:
                archive.unpack(member, unpacked)
            except UnreadableArchive as error:
                at.receipt.refused.append(Refused(member.name, f"it cannot be unpacked ({error.reason})"))
                continue
            _keep(at, _named(at.places, member.name, renamed), unpacked, member.name)


def _read_manifest(data: bytes, places: Sequence[Place]) -> dict[str, tuple[int, int]]:
    """Cell and take by the name that a returned manifest gives; lines that make no sense are left out."""
    known = {(place.cell.id, place.take) for place in places}
    asked = {place.returned_as.lower() for place in places}
    renamed = {}
    text = data.decode("utf-8-sig", errors="replace")
    for row in csv.DictReader(io.StringIO(text)):
        try:
            key = (int(row.get("cell") or ""), int(row.get("take") or "1"))
        except ValueError:
            continue
        name = (row.get("returned_as") or "").strip().lower()
        if key in known and name and name not in asked:
            renamed[name] = key
    return renamed


@dataclass(frozen=True)
class _Named:
    cell: int | None = None
    take: int = 1
    by: str = ""


def _named(places: Sequence[Place], name: str, renamed: dict[str, tuple[int, int]]) -> _Named:
    """The render that a file's name stands for, and by what."""
    if name.lower() in renamed:
        return _Named(*renamed[name.lower()], "the manifest that came with it")
    stem = PurePosixPath(name.lower()).stem
    for place in places:
        if PurePosixPath(place.returned_as).stem == stem:
            return _Named(place.cell.id, place.take, "its name")
    number, take = _NUMBER.match(stem), _TAKE.search(stem)
    if number is not None:
        wanted = (int(number.group(1)), int(take.group(1)) if take else 1)
        if wanted in {(place.cell.id, place.take) for place in places}:
            return _Named(*wanted, "the number that its name begins with")
    return _Named()


@dataclass(frozen=True)
class _Arriving:
    """What is known while an upload is received."""

    session: Session
    decoder: Decoder
    run_id: int
    places: Sequence[Place]
    who: str
    now: datetime
    receipt: Receipt = field(default_factory=Receipt)


def _keep(at: _Arriving, named: _Named, path: Path, name: str) -> None:
    try:
        content, _ = keep_audio(at.session, at.decoder, path, name, at.who)
    except (UnreadableAudio, UploadRefused) as error:
        at.receipt.refused.append(Refused(name, str(error)))
        return
    file = KitFile(
        run_id=at.run_id, name=file_name(name), content_sha256=content.sha256, state="received", why="", candidates=[],
        named_for=named.cell, named_by=named.by, take=named.take, received_at=at.now,
    )  # fmt: skip
    at.session.add(file)
    at.session.flush()
    at.session.add(Event(at=at.now, who=at.who, what="kit file received", detail={"file": file.id, "name": name}))
    recognise_kit_file(at.session, file.id)
    at.receipt.kept.append(file)


def _sound_in(session: Session, source: BlobSource, here: Sequence[Place]) -> tuple[str | None, str]:
    """Which of the kit's sounds a file holds, and what told: its mark, or where no mark is left, the signal itself."""
    samples = source.read(0, min(source.frames, round(LOOKED_INTO_SECONDS * source.rate)))
    cells = {place.sound: place.cell for place in here if can_be_had(session, place.cell)}
    found = _clear_winner({sound: find_sound(samples, mark_of(sound, source.rate))[1] for sound in cells})
    if found is not None:
        return found, "mark"
    by_signal = {sound: find_sound(samples, loudest(_stimulus(session, cell)))[1] for sound, cell in cells.items()}
    return _clear_winner(by_signal), "sound"


def _stimulus(session: Session, cell: Cell) -> Samples:
    return make_stimulus(session, cell.case.signal.stimulus, cell.condition.channels, cell.condition.rate)


def _clear_winner(likeness: dict[str, float]) -> str | None:
    ranked = sorted(likeness, key=lambda sound: -likeness[sound])
    if not ranked or likeness[ranked[0]] < LIKE:
        return None
    clear = len(ranked) == 1 or likeness[ranked[0]] >= _AHEAD * likeness[ranked[1]]
    return ranked[0] if clear else None


def _taken(session: Session, run_id: int) -> dict[tuple[int, int], KitFile]:
    """Files by the cell and take that they are the render of."""
    rows = session.scalars(select(KitFile).where(KitFile.run_id == run_id, KitFile.state == "matched"))
    return {(file.cell_id, file.take): file for file in rows if file.cell_id is not None}


def _take_by_sound(
    session: Session, file: KitFile, alike: Sequence[Place], taken: dict[tuple[int, int], KitFile], told: str
) -> None:
    missing = [place for place in alike if (place.cell.id, place.take) not in taken]
    if len(alike) == 1 and missing:
        why = f"By its {told} alone: no other render has that signal"
        _take_for(session, file, missing[0].cell, missing[0].take, why)
    elif len(missing) == 1:
        # The others have come back, but that this one is the last is a guess; a person confirms it.
        _doubt(file, missing, f"By its {told} it is one of those with that signal; this is the only one still missing")
    else:
        _doubt(file, missing or alike, f"Its {told} tells the signal, and several renders have that signal")


def _doubt(file: KitFile, among: Iterable[Place], why: str) -> None:
    file.state, file.why = "doubtful", why
    file.candidates = list(dict.fromkeys(place.cell.id for place in among))


def _take_for(session: Session, file: KitFile, cell: Cell, take: int, why: str) -> None:
    file.state, file.why, file.cell_id, file.take, file.candidates = "matched", why, cell.id, take, []
    session.flush()
    held = find_cell(session, cell.id, lock=True)
    came = {number for cell_id, number in _taken(session, file.run_id) if cell_id == cell.id}
    if came == set(range(1, held.case.takes + 1)):
        forget_verdict(held)
        held.state = "rendering"
        measure_returned_cell(session, cell.id)


def _take_away(session: Session, cell_id: int) -> None:
    """A cell whose file turns out to be another cell's waits again; a reference that its render became stays."""
    cell = find_cell(session, cell_id, lock=True)
    cell.render, cell.analysis, cell.reference = None, None, None
    forget_verdict(cell)
    cell.state = "waiting"
