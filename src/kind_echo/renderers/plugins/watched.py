"""Folders in which each file or folder that appears is a build of an effect, as the file of renderers names them."""

import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from kind_echo.renderers.declared import BadDeclaration

TABLE = "builds"
"""Of the file of renderers: a table [builds.NAME] each."""


class Watched(BaseModel):
    """A folder of builds.

    Attributes:
        effect: what its builds are of.
        folder: beside the file that names it, unless it is a whole path.
        version: what a build is named by: the file or folder that appeared, or the version that the plug-in tells.
        id: of the plug-in, where its files hold several.
    """

    model_config = ConfigDict(extra="forbid")

    effect: str = Field(min_length=1, max_length=60)
    folder: str = Field(min_length=1)
    version: Literal["name", "plug-in"] = "name"
    id: str = ""


@dataclass(frozen=True)
class Place:
    """A file of plug-ins in a watched folder, and the name of what appeared there."""

    watched: Watched
    path: Path
    name: str


def read_watched(path: Path) -> list[Watched]:
    """The folders that a file of renderers names. Raises BadDeclaration."""
    try:
        tables = tomllib.loads(path.read_text()).get(TABLE, {})
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadDeclaration(path, f"it cannot be read ({error}).") from error
    found = []
    for name, table in tables.items() if isinstance(tables, dict) else ():
        try:
            one = Watched.model_validate(table)
            found.append(one.model_copy(update={"folder": str(path.parent / Path(one.folder).expanduser())}))
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(part) for part in (TABLE, name, *first["loc"]))
            raise BadDeclaration(path, f"{where}: {first['msg']}.") from error
    return found


def places(watched: Watched, ending: str) -> list[Place]:
    """The files of a standard in a watched folder, oldest first; a folder that is not there holds none."""
    folder = Path(watched.folder)
    found = []
    for entry in sorted(folder.iterdir(), key=_time) if folder.is_dir() else []:
        if entry.suffix.lower() == ending:
            found.append(Place(watched, entry, entry.stem))
        elif entry.is_dir():
            found += [Place(watched, path, entry.name) for path in plugin_files(entry, ending)]
    return found


def plugin_files(folder: Path, ending: str) -> list[Path]:
    """The plug-ins of a standard under a folder, in order; what lies within one is a part of it."""
    inside = sorted(path for path in folder.rglob("*") if path.suffix.lower() == ending)
    return [path for path in inside if not any(other in path.parents for other in inside)]


def _time(path: Path) -> tuple[float, str]:
    try:
        return path.stat().st_mtime, path.name
    except OSError:
        return 0.0, path.name  # removed meanwhile, which the next look sees
