"""Which file belongs to which: renders to references by their path, takes to their group, inputs to their pair."""

import re
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path, PurePath

from kind_echo.audio_io.files import ENDINGS
from kind_echo.core.registry.errors import BadParameter

_TAKE = re.compile(r"(?P<stem>.+)\.take(?P<number>\d+)")
_INPUT = ".input"


@dataclass(frozen=True)
class Pair:
    """A render and what it is compared with.

    Attributes:
        name: path under the folder of references, with slashes; of takes without their number.
        references, renders: the files; the first is compared with the first, the others are takes.
        input: what went into the effect, where it is kept.
    """

    name: str
    references: tuple[Path, ...]
    renders: tuple[Path, ...]
    input: Path | None = None

    @property
    def files(self) -> tuple[Path, ...]:
        """All files of the pair, in a fixed order."""
        return (*self.references, *self.renders, *(() if self.input is None else (self.input,)))


@dataclass(frozen=True)
class Paired:
    """Two folders laid side by side.

    Attributes:
        missing: names of references of which there is no render.
        surplus: names of renders that have no reference, and their files.
    """

    pairs: list[Pair]
    missing: list[str]
    surplus: dict[str, tuple[Path, ...]]


def pair_folders(references: Path, renders: Path) -> Paired:
    """Pair the audio files of two folders and of the folders in them.

    A file is paired by its path, and where that has no counterpart by its path without the ending of its format.

    Raises:
        BadParameter: one is no folder, or there is no audio in either.
    """
    for given, path in (("REFERENCES", references), ("RENDERS", renders)):
        if not path.is_dir():
            raise BadParameter(given, str(path), "a folder")
    mine, inputs = _groups(references)
    theirs, beside = _groups(renders)
    inputs = {**beside, **inputs}
    if not mine and not theirs:
        raise BadParameter("REFERENCES", str(references), f"a folder with audio files in it ({', '.join(ENDINGS)})")
    pairs, missing = [], []
    rest = {name: files for name, files in theirs.items() if name not in mine}
    by_stem = _alone_by_stem(rest)
    for name, files in mine.items():
        own = theirs.get(name)
        if own is None and (other := by_stem.get(_stem(name))) is not None:
            own = rest.pop(other, None)
        if own is None:
            missing.append(name)
        else:
            pairs.append(Pair(name, files, own, inputs.get(_stem(name))))
    return Paired(pairs, missing, rest)


def shown(path: PurePath) -> str:
    """A path as text, with slashes; bytes of a name that are no text are written out."""
    return path.as_posix().encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def _groups(folder: Path) -> tuple[dict[str, tuple[Path, ...]], dict[str, Path]]:
    """Files by the name of their group, sorted; and inputs by the stem of what they are the input of."""
    groups: dict[str, list[tuple[int, Path]]] = {}
    inputs: dict[str, Path] = {}
    for file in sorted(folder.rglob("*")):
        inside = file.relative_to(folder)
        if file.suffix.lower() not in ENDINGS or any(part.startswith(".") for part in inside.parts):
            continue
        if not file.is_file():
            continue
        if file.stem.endswith(_INPUT):
            inputs[shown(inside.with_name(file.stem.removesuffix(_INPUT)))] = file
            continue
        take = _TAKE.fullmatch(file.stem)
        name = inside if take is None else inside.with_name(take["stem"] + file.suffix)
        groups.setdefault(shown(name), []).append((0 if take is None else int(take["number"]), file))
    return {name: tuple(file for _, file in sorted(files)) for name, files in groups.items()}, inputs


def _stem(name: str) -> str:
    return Path(name).with_suffix("").as_posix()


def _alone_by_stem(names: Iterable[str]) -> dict[str, str]:
    """Names by their path without an ending; none of those that share it."""
    found: dict[str, list[str]] = {}
    for name in names:
        found.setdefault(_stem(name), []).append(name)
    return {stem: one[0] for stem, one in found.items() if len(one) == 1}
