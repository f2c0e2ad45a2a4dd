"""The plug-ins on this machine: looked for, described, and what could not be, with the reason.

Describing starts a process for each file; what came of it is kept in the user's cache as long as the file is unchanged.
"""

import functools
import hashlib
import json
import os
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import structlog

from kind_echo import __version__
from kind_echo.audio_io.own_folder import cache_folder
from kind_echo.core.registry.names import build_name, plain_name
from kind_echo.renderers.contract import NotOffered, RenderFailed
from kind_echo.renderers.declared import BadDeclaration
from kind_echo.renderers.plugins.hosting import about_from, describe
from kind_echo.renderers.plugins.model import PluginAbout
from kind_echo.renderers.plugins.standards import LV2, STANDARDS, Standard, standard_named
from kind_echo.renderers.plugins.watched import Place, Watched, places, plugin_files, read_watched

FILE_VARIABLE = "KIND_ECHO_RENDERERS"
"""Names the file that declares renderers and folders of builds; a machine without it has none declared."""

_VERSION_DIGITS = 12
_AT_ONCE = 2
_log = structlog.get_logger("kind_echo.worker")


@dataclass(frozen=True)
class Installed:
    """A plug-in in a file.

    Attributes:
        effect, handle: what it is offered as.
        version: its build: from the bytes of the file, so that another build is never taken for this one, or as a
            folder of builds says.
        digest: of the bytes.
        stamp: name, time of change and size of its files when it was looked at.
    """

    path: Path
    effect: str
    handle: str
    version: str
    digest: str
    about: PluginAbout
    stamp: tuple[object, ...]

    @property
    def is_unchanged(self) -> bool:
        """Whether its files are those that were looked at."""
        return _stamp_of(self.path) == self.stamp


@dataclass(frozen=True)
class Scan:
    """What was found: plug-ins, oldest first, and files that cannot be offered."""

    found: tuple[Installed, ...]
    failed: tuple[NotOffered, ...]


@dataclass(frozen=True)
class _Described:
    digest: str
    plugins: tuple[PluginAbout, ...]
    reason: str = ""
    stamp: tuple[object, ...] = ()


@functools.cache
def scan(key: str) -> Scan:
    """The plug-ins of a standard on this machine; kept until `forget`, when `stamp` has changed.

    What cannot be described is not offered, with the reason: it crashed, hung, or is no plug-in.
    """
    standard = standard_named(key)
    if not standard.is_there():
        return Scan((), ())
    usual = _usual_files(standard)
    watched = [place for one in _watched() for place in places(one, standard.ending)]
    paths = [*usual, *(place.path for place in watched)]
    with ThreadPoolExecutor(_AT_ONCE) as pool:
        described = dict(zip(paths, pool.map(_described, paths), strict=True))
    found: list[Installed] = []
    failed = [NotOffered(str(path), one.reason) for path, one in described.items() if one.reason]
    for path in sorted(usual, key=_time):
        one = described[path]
        for about in one.plugins:
            found.append(Installed(path, _name(about, standard), about.id, one.digest, one.digest, about, one.stamp))
            if not about.channels:
                failed.append(NotOffered(f"{path}: {about.name}", "it has not as many channels out as in"))
    for place in watched:
        _add_watched(place, described[place.path], found, failed)
    return Scan(tuple(found), tuple(failed))


def forget(*, failures: bool = False) -> None:
    """Look anew at the next scan; with `failures`, also at files that could not be described and have not changed."""
    scan.cache_clear()
    if failures:
        for key in [key for key, one in _DESCRIBED.items() if one.reason]:
            del _DESCRIBED[key]


def stamp() -> tuple[object, ...]:
    """Name, time of change and size of every file of a plug-in."""
    found: list[object] = []
    for standard in STANDARDS:
        if standard.is_there():
            paths = _usual_files(standard) + [p.path for one in _watched() for p in places(one, standard.ending)]
            found += [_stamp_of(path) for path in paths]
    return tuple(found)


def _add_watched(place: Place, one: _Described, found: list[Installed], failed: list[NotOffered]) -> None:
    watched = place.watched
    fitting = [about for about in one.plugins if watched.id in ("", about.id)]
    if one.reason:
        return
    if len(fitting) != 1:
        known = ", ".join(about.id for about in one.plugins)
        failed.append(NotOffered(str(place.path), f"it holds {known}, of which the folder of builds names none"))
        return
    version = place.name if watched.version == "name" else fitting[0].version
    try:
        build_name(version)
    except ValueError as error:
        failed.append(NotOffered(str(place.path), str(error) if version else "it tells no version"))
        return
    same = next((f for f in found if (f.effect, f.handle, f.version) == (watched.effect, "", version)), None)
    if same is not None:
        failed.append(NotOffered(str(place.path), f"build {version} is there already, as {same.path}"))
        return
    found.append(Installed(place.path, watched.effect, "", version, one.digest, fitting[0], one.stamp))


def _name(about: PluginAbout, standard: Standard) -> str:
    """What it is offered as: many come in several standards, and an effect's name stands for one."""
    name = plain_name(about.name) or about.id
    return name if standard is LV2 else f"{name} ({standard.title})"


def _watched() -> list[Watched]:
    """The folders of builds that are declared; while their file cannot be read, those that it declared before."""
    named = os.environ.get(FILE_VARIABLE)
    try:
        _WATCHED[:] = read_watched(Path(named)) if named and Path(named).exists() else []
    except BadDeclaration as error:
        _log.warning("the changed file of renderers is not used", error=str(error))
    return list(_WATCHED)


def _usual_files(standard: Standard) -> list[Path]:
    found = {path for folder in standard.folders() if folder.is_dir() for path in plugin_files(folder, standard.ending)}
    return sorted(found)


_DESCRIBED: dict[str, _Described] = {}
_WATCHED: list[Watched] = []


def _described(path: Path) -> _Described:
    """What a file is, from before where it has not changed."""
    stamp = _stamp_of(path)
    key = hashlib.sha256(repr((stamp, __version__, _library_version(path))).encode()).hexdigest()
    if key in _DESCRIBED:
        return _DESCRIBED[key]
    folder = cache_folder()
    kept = None if folder is None else folder / "plugins" / f"{key}.json"
    found = replace(_from_before(kept) or _describe_now(path, kept), stamp=stamp)
    _DESCRIBED[key] = found
    return found


def _from_before(kept: Path | None) -> _Described | None:
    try:
        told = json.loads(kept.read_text("utf-8")) if kept is not None else {}
        return _Described(told["digest"], tuple(about_from(one) for one in told["plugins"]))
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _describe_now(path: Path, kept: Path | None) -> _Described:
    try:
        digest = digest_of(path)
        found = _Described(digest, tuple(describe(path)))
    except RenderFailed as error:
        _log.warning("a plug-in is not offered", file=str(path), reason=error.reason)
        return _Described("", (), error.reason)
    except OSError as error:
        return _Described("", (), f"it cannot be read ({error.strerror})")
    if kept is None:
        return found
    try:
        kept.parent.mkdir(parents=True, exist_ok=True)
        part = kept.with_suffix(f".{os.getpid()}")
        part.write_text(json.dumps({"digest": digest, "plugins": [asdict(one) for one in found.plugins]}), "utf-8")
        part.replace(kept)
    except OSError as error:
        _log.info("what a plug-in was described as is not kept", folder=str(kept.parent), error=str(error))
    return found


def digest_of(path: Path) -> str:
    """Of the names and bytes of all files of a plug-in: some are folders."""
    found = hashlib.sha256()
    for file in _parts(path):
        if path.is_dir():
            found.update(str(file.relative_to(path)).encode() + b"\0")
        with file.open("rb") as opened:
            found.update(hashlib.file_digest(opened, "sha256").digest())
    return found.hexdigest()[:_VERSION_DIGITS]


def _parts(path: Path) -> Iterator[Path]:
    yield from (file for file in sorted(path.rglob("*")) if file.is_file()) if path.is_dir() else (path,)


def _stamp_of(path: Path) -> tuple[object, ...]:
    found: list[object] = [str(path)]
    try:
        for file in _parts(path):
            about = file.stat()
            found.append((str(file), about.st_mtime_ns, about.st_size))
    except OSError:
        found.append("removed meanwhile, which the next look sees")
    return tuple(found)


def _library_version(path: Path) -> str:
    """Of what describes it, which may tell more in its next version."""
    from importlib.metadata import PackageNotFoundError, version

    if path.suffix.lower() in (".clap", ".lv2"):
        return ""
    try:
        return version("pedalboard")
    except PackageNotFoundError:
        return ""


def _time(path: Path) -> float:
    try:
        return path.stat().st_mtime
    except OSError:
        return 0.0


def installed_as(found: Sequence[Installed], effect: str, handle: str, version: str) -> Installed | None:
    """The build of an effect among what was found; None where it is not there. An effect with a handle goes by that."""
    for one in found:
        named = one.handle == handle if handle else (one.effect, one.handle) == (effect, "")
        if named and one.version == version:
            return one
    return None
