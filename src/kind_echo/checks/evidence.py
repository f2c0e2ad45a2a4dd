"""A check as one ZIP that whoever doubts a number can compute again: what was said, and the audio it was said of."""

import hashlib
import io
import json
import re
import shutil
import zipfile
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path, PurePosixPath
from typing import Any

from kind_echo.audio_io.bundles import MANIFEST, READINGS, SCHEMA, SIGNATURE, Bundle, writing
from kind_echo.audio_io.signatures import BadSignature, Signed, check, public_key
from kind_echo.bench.documents import PairDocument, reading_from
from kind_echo.checks.judging import Checked
from kind_echo.checks.measuring import (
    ComparedHow,
    Measured,
    digests_of,
    measure_cell,
    measure_cell_beside,
    measure_pair,
)
from kind_echo.checks.pairing import Pair, shown
from kind_echo.core.registry.documents import FileDocument
from kind_echo.core.registry.errors import Invalid, KindEchoError
from kind_echo.core.registry.readings import Reading

_NO_NAME = re.compile(r'[\\:*?"<>|\x00-\x1f]')
_NONE = "no such reading"
_BLOCK = 1 << 20
_MOST_BYTES = 1 << 37  # of one file in a bundle: an hour of 8 channels of doubles is a tenth of it
_AS_KEPT = 1e-9  # of a value, by which another processor may round differently


class BadBundle(Invalid):
    """A file that is no bundle of evidence, or one that was changed."""

    def __init__(self, path: str, why: str) -> None:
        self.path = path
        super().__init__(f"{path}: {why}")


@dataclass(frozen=True)
class Difference:
    """A reading that comes out otherwise when it is computed again; None where one side has no such reading."""

    pair: str
    measure: str
    channel: str
    kept: str
    again: str


@dataclass(frozen=True)
class Verified:
    """What came of computing a bundle again.

    Attributes:
        files: whose digests hold.
        readings: that came out the same.
        without_audio: pairs of which the bundle has readings alone.
        version: that the bundle was made by.
        signed: with which key; None of one that is not.
    """

    files: int
    readings: int
    differences: list[Difference]
    without_audio: int
    version: str
    signed: Signed | None


def write_evidence(
    path: Path, checked: Sequence[Checked], texts: Mapping[str, str], made: datetime, *, all_audio: bool
) -> None:
    """Write the bundle; whole or not at all.

    Args:
        texts: what else belongs to it, by its name in the bundle.
        made: when the check ended.
        all_audio: keep the audio of what passed as well.
    Raises:
        BadBundle: a file changed since it was measured.
    """
    with writing(path, made) as bundle:
        pairs = [_add_pair(bundle, one, all_audio=all_audio) for one in checked]
        for name, text in texts.items():
            bundle.add_text(name, text)
        bundle.add_json(READINGS, {"schema": SCHEMA, "pairs": pairs})


def verify_evidence(path: Path, folder: Path, tell: Callable[[int, int], None], key: Path | None = None) -> Verified:
    """Check the signature and all digests of a bundle, and compute every reading again of which it holds the audio.

    Args:
        folder: an empty one, for the audio.
        tell: is called with how many pairs are done, and of how many.
        key: a PEM file with the public key that it has to be signed with; None where any will do, or none.
    Raises:
        BadBundle: it is none, lacks a file, holds another, or one whose digest or signature does not hold.
        BadKey: the file holds no public key.
    """
    expected = None if key is None else public_key(key)
    with _opened(path) as bundle:
        manifest = _read_json(path, bundle, MANIFEST)
        if manifest.get("schema") != SCHEMA or not isinstance(manifest.get("files"), dict):
            raise BadBundle(str(path), f"its manifest is not of {SCHEMA}")
        listed: dict[str, str] = manifest["files"]
        there = set(bundle.namelist()) - {MANIFEST, SIGNATURE}
        signed = None
        if SIGNATURE in bundle.namelist():
            try:
                signed = check(_read_json(path, bundle, SIGNATURE), bundle.read(MANIFEST), expected)
            except BadSignature as error:
                raise BadBundle(str(path), str(error)) from error
        elif expected is not None:
            raise BadBundle(str(path), "it is not signed")
        for missing in sorted(set(listed) - there):
            raise BadBundle(str(path), f"{missing} is missing")
        for added in sorted(there - set(listed)):
            raise BadBundle(str(path), f"{added} is not in the manifest")
        _check_room(path, bundle, folder)
        for name, digest in listed.items():
            _check_file(path, bundle, name, digest, folder)
        pairs = _read_json(path, bundle, READINGS).get("pairs", [])
    differences: list[Difference] = []
    same = without = 0
    for number, one in enumerate(_pairs(path, pairs, set(listed))):
        tell(number, len(pairs))
        if one.pair is None:
            without += 1
            continue
        found = _again(one, folder)
        if isinstance(found, str):
            differences.append(Difference(one.pair.name, "", "", "measured", found))
            continue
        measured, beside = found
        read, again = [*one.kept.own, *one.kept.comparison], [*measured.own, *measured.comparison]
        told = {(reading.measure, reading.channel) for reading in beside}
        # What a render took, and how far its takes lie apart, is in none of these files.
        known = [reading for reading in one.beside if (reading.measure, reading.channel) in told]
        apart = [*_apart(one.pair.name, read, again), *_apart(one.pair.name, known, beside)]
        differences += apart
        same += len(read) + len(known) - sum(gone.kept != _NONE for gone in apart)
    return Verified(len(listed), same, differences, without, str(manifest.get("version")), signed)


def _add_pair(bundle: Bundle, one: Checked, *, all_audio: bool) -> PairDocument:
    """A pair as `readings.json` keeps it; its audio goes into the bundle."""
    document: PairDocument = {"name": one.name, "status": one.status, "why": one.why, "causes": one.causes}
    if one.measured is None or one.pair is None:
        return document
    document["measured"] = one.measured.document()
    if one.status == "pass" and not all_audio:
        return document
    names = _names(one.pair, one.measured.inputs)
    document["audio"] = names
    document["takes"] = (len(one.pair.references), len(one.pair.renders), one.pair.input is not None)
    # What was resampled was measured at its reference's rate, which it has to be again.
    document["resample"] = len({given["rate"] for given in one.measured.inputs}) > 1
    for name, path, given in zip(names, one.pair.files, one.measured.inputs, strict=True):
        if name not in bundle.digests:
            with path.open("rb") as file:
                bundle.add(name, file)
        if bundle.digests[name] != given["sha256"]:
            raise BadBundle(str(path), "it was changed while it was checked")
    return document


def _names(one: Pair, inputs: Sequence[FileDocument]) -> list[str]:
    """Names in the bundle of the files of a pair, in its order: by side, and by the folder of the pair."""
    folder = PurePosixPath(one.name).parent
    sides = ["references"] * len(one.references) + ["renders"] * len(one.renders) + ["inputs"]
    named = [
        (PurePosixPath(side) / folder / shown(PurePosixPath(path.name))).as_posix()
        for side, path in zip(sides, one.files, strict=False)
    ]
    # Some systems cannot unpack all that others take for a name; the digest keeps those apart that become the same.
    clean = [_NO_NAME.sub("_", name) for name in named]
    return [
        f"audio/{name}" if name == before else f"audio/{given['sha256'][:12]}/{name}"
        for name, before, given in zip(clean, named, inputs, strict=True)
    ]


@contextmanager
def _opened(path: Path) -> Iterator[zipfile.ZipFile]:
    try:
        with zipfile.ZipFile(path) as bundle:
            yield bundle
    except (OSError, zipfile.BadZipFile, NotImplementedError, RuntimeError) as error:
        raise BadBundle(str(path), f"it cannot be read as a bundle: {error}") from error


def _read_json(path: Path, bundle: zipfile.ZipFile, name: str) -> dict[str, Any]:
    try:
        told = json.loads(bundle.read(name))
    except KeyError:
        raise BadBundle(str(path), f"it has no {name}") from None
    except ValueError as error:
        raise BadBundle(str(path), f"{name} is no JSON: {error}") from error
    if not isinstance(told, dict):
        raise BadBundle(str(path), f"{name} holds no object")
    return told


def _check_room(path: Path, bundle: zipfile.ZipFile, folder: Path) -> None:
    """Raises BadBundle where what it unpacks to is more than the disk has; no file gives more than it says here."""
    needed, free = sum(entry.file_size for entry in bundle.infolist()), shutil.disk_usage(folder).free
    if needed > free:
        raise BadBundle(str(path), f"it unpacks to {needed / 1e9:.1f} GB, and {free / 1e9:.1f} GB are free in {folder}")


def _check_file(path: Path, bundle: zipfile.ZipFile, name: str, digest: str, folder: Path) -> None:
    """Check a file's digest, and unpack it where it is audio."""
    inside = PurePosixPath(name)
    if inside.is_absolute() or ".." in inside.parts or "\\" in name or ":" in name:
        raise BadBundle(str(path), f"{name!r} would lie outside of the bundle")
    found, size = hashlib.sha256(), 0
    target = folder / inside if inside.parts[0] == "audio" else None
    if target is not None:
        target.parent.mkdir(parents=True, exist_ok=True)
    with bundle.open(name) as source, target.open("wb") if target is not None else io.BytesIO() as kept:
        while block := source.read(_BLOCK):
            size += len(block)
            if size > _MOST_BYTES:
                raise BadBundle(str(path), f"{name} is too long")
            found.update(block)
            if target is not None:
                kept.write(block)
    if found.hexdigest() != digest:
        raise BadBundle(str(path), f"{name} was changed: its digest does not hold")


@dataclass(frozen=True)
class _BundledPair:
    """A pair that was measured, as the bundle has it; `pair` has paths in it, and is None where it has no audio.

    Attributes:
        resample: whether its render was brought to the reference's rate.
        compared: how a cell of a run was compared; None of a pair of files.
        beside: readings of a cell's render beside what went in, and what it took.
    """

    kept: Measured
    pair: Pair | None
    resample: bool = False
    compared: ComparedHow | None = None
    beside: tuple[Reading, ...] = ()


def _pairs(path: Path, documents: Iterable[PairDocument], names: set[str]) -> Iterator[_BundledPair]:
    """The pairs that were measured. Raises BadBundle where one is not as it should be, or names a file outside."""
    try:
        for one in documents:
            if not one.get("measured"):
                continue
            kept = Measured.of(one["measured"])
            audio = one.get("audio") or []
            if not audio:
                yield _BundledPair(kept, None)
                continue
            if not names.issuperset(audio) or not all(name.startswith("audio/") for name in audio):
                raise BadBundle(str(path), f"{READINGS} names a file that is not in the bundle")
            references, renders, has_input = one["takes"]
            files = tuple(Path(name) for name in audio)
            pair = Pair(
                str(one["name"]), files[:references], files[references : references + renders],
                files[-1] if has_input else None,
            )  # fmt: skip
            how = one.get("compared")
            beside = tuple(reading_from(document) for document in one.get("beside_signal", []))
            yield _BundledPair(kept, pair, bool(one["resample"]), None if how is None else ComparedHow.of(how), beside)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError) as error:
        raise BadBundle(str(path), f"{READINGS} does not hold what it should: {error!r}") from error


def _unpacked(inside: Pair, folder: Path) -> Pair:
    """A pair where it was unpacked to."""
    references, renders = (tuple(folder / path for path in side) for side in (inside.references, inside.renders))
    return Pair(inside.name, references, renders, None if inside.input is None else folder / inside.input)


def _again(one: _BundledPair, folder: Path) -> tuple[Measured, list[Reading]] | str:
    """A pair measured again from where its audio was unpacked to, with a cell's render beside what went in; or why it
    cannot be.
    """
    assert one.pair is not None
    pair = _unpacked(one.pair, folder)
    try:
        if one.compared is not None:
            measured = measure_cell(pair, digests_of(pair), one.compared)
            return measured, measure_cell_beside(pair, one.compared, one.beside)
        return measure_pair(pair, digests_of(pair), resample=one.resample), []
    except (KindEchoError, OSError) as error:
        return " ".join(str(error).split())


def _apart(pair: str, kept: Iterable[Reading], again: Iterable[Reading]) -> Iterator[Difference]:
    """Readings that are not the same."""
    before, after = ({(r.measure, r.channel): r for r in side} for side in (kept, again))
    for key in before | after:
        one, other = before.get(key), after.get(key)
        if one is None or other is None or not _same(one, other):
            yield Difference(pair, *key, _told(one), _told(other))


def _same(one: Reading, other: Reading) -> bool:
    for a, b in ((one.value, other.value), (one.at_most, other.at_most), (one.at_least, other.at_least)):
        if a is None or b is None or a == b:
            if a != b:
                return False
        elif not abs(a - b) <= _AS_KEPT * max(1.0, abs(a)):
            return False
    return True


def _told(reading: Reading | None) -> str:
    if reading is None:
        return _NONE
    return repr(reading.value) if reading.value is not None else reading.why or "no reading"
