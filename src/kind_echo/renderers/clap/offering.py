"""Plug-ins of the CLAP standard on this machine: found, described, and rendered with, each in a process of its own."""

import functools
import hashlib
import json
import os
import sys
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass
from importlib.util import find_spec
from pathlib import Path
from typing import Any

import structlog

from kind_echo import __version__
from kind_echo.core.registry.names import plain_name
from kind_echo.renderers.clap.hosting import PluginAbout, PluginParameter
from kind_echo.renderers.contract import (
    Offer,
    OfferedEffect,
    OfferedHost,
    RenderFailed,
    RenderRequest,
    RenderResult,
)
from kind_echo.renderers.exchange import exchange
from kind_echo.renderers.process import Finished, Limits, run_limited

QUEUE = "clap"
HOST = "CLAP host"
PATH_VARIABLE = "CLAP_PATH"
"""Folders that plug-ins are looked for in beside the usual ones, as the standard says."""

_ENDING = ".clap"
_DESCRIBING = Limits(seconds=30.0, memory=4096)
_RENDERING = Limits(seconds=300.0, memory=4096)
_VERSION_DIGITS = 12
_log = structlog.get_logger("kind_echo.worker")


@dataclass(frozen=True)
class Installed:
    """A plug-in in a file. `build` is from the bytes of the file, so that another build is never taken for this one."""

    path: Path
    build: str
    about: PluginAbout


@dataclass(frozen=True)
class Asked:
    """How a plug-in is to be run.

    Attributes:
        values: of parameters by name; a text is read by the plug-in.
        block: frames that it is given at a time; with a seed, as many at most, from 1 on, drawn by it.
        state: a file with a state to begin from; None for the plug-in's own.
        save: a file to keep its state in afterwards; None for nowhere.
    """

    id: str
    values: Mapping[str, float | int | str]
    block: int
    seed: int = 0
    offline: bool = True
    state: Path | None = None
    save: Path | None = None


@dataclass(frozen=True)
class Ran:
    """What came of that: latency in frames, seconds that it processed for, and what its process took and printed."""

    latency: int
    seconds: float
    finished: Finished


def clap_offer() -> Offer | None:
    """What this machine has; None where there is no plug-in, or nothing to host it with."""
    if find_spec("cffi") is None:
        return None
    by_id: dict[str, list[Installed]] = {}
    for one in scan():
        if one.about.inputs and one.about.outputs and one.about.inputs[0] == one.about.outputs[0]:
            by_id.setdefault(one.about.id, []).append(one)
    if not by_id:
        return None
    host = OfferedHost(HOST, __version__, "CLAP plug-ins, block by block", ("offline", "real time"))
    effects = tuple(_offered(found) for _, found in sorted(by_id.items()))
    return Offer(QUEUE, "Plug-ins of the CLAP standard on this machine", ClapRenderer(), (host,), effects)


class ClapRenderer:
    """Renders in blocks of the condition; takes no latency off, and tells it."""

    def render(self, request: RenderRequest) -> RenderResult:
        """Render one case. Raises RenderFailed."""
        found = [one for one in scan() if one.about.id == request.handle]
        one = next((one for one in found if one.build == request.version), None)
        if one is None:
            known = ", ".join(one.build for one in found) or "none"
            raise RenderFailed(f"this machine has no build {request.version} of {request.handle}, but {known}")
        asked = Asked(request.handle, request.values, request.block_size, offline=request.mode == "offline")
        ran: list[Ran] = []

        def work(folder: Path, source: Path, target: Path) -> Finished:
            ran.append(run_plugin(one.path, source, target, asked, folder))
            return ran[0].finished

        samples, finished = exchange(request.signal, request.rate, "FLOAT", work)
        return RenderResult(
            samples, ran[0].latency, ran[0].latency == 0, finished.log, finished.cpu_seconds, finished.memory
        )

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        """The build and the host's version; None for one that is not on this machine."""
        known = any((one.about.id, one.build) == (handle, version) for one in scan())
        return f"{version} {HOST} {__version__}" if known else None


def describe(path: Path) -> list[PluginAbout]:
    """The plug-ins in a file. Raises RenderFailed."""
    with tempfile.TemporaryDirectory(prefix="kind-echo-plugin-") as folder:
        told, _ = _child({"path": str(path.absolute())}, Path(folder), _DESCRIBING)
    return [_about(one) for one in told["plugins"]]


def run_plugin(path: Path, source: Path, target: Path, asked: Asked, folder: Path) -> Ran:
    """Run a sound file through a plug-in into another file. Raises RenderFailed."""
    told, finished = _child(
        {
            "path": str(path.absolute()), "id": asked.id, "input": str(source.absolute()), "values": dict(asked.values),
            "output": str(target.absolute()), "blocks": {"size": asked.block, "seed": asked.seed},
            "offline": asked.offline, "state": "" if asked.state is None else str(asked.state.absolute()),
            "save": "" if asked.save is None else str(asked.save.absolute()),
        },
        folder, _RENDERING,
    )  # fmt: skip
    return Ran(int(told["latency"]), float(told["seconds"]), finished)


@functools.cache
def scan() -> tuple[Installed, ...]:
    """The plug-ins on this machine; kept until the cache is cleared, when `stamp` has changed.

    What cannot be described is left out, with a line in the log: it crashed, hung, or is no plug-in.
    """
    found = []
    for path in _files():
        try:
            described = describe(path)
        except RenderFailed as error:
            _log.warning("a plug-in is not offered", file=str(path), reason=error.reason)
            continue
        build = _digest(path)
        found += [Installed(path, build, about) for about in described]
    return tuple(found)


def stamp() -> tuple[tuple[str, int, int], ...]:
    """Name, time of change and size of every file of a plug-in."""
    found = []
    for path in _files():
        try:
            about = path.stat()
        except OSError:
            continue  # removed meanwhile, which the next look sees
        found.append((str(path), about.st_mtime_ns, about.st_size))
    return tuple(found)


def _files() -> list[Path]:
    found = {path for folder in _folders() for path in folder.expanduser().rglob(f"*{_ENDING}")}
    return sorted(found)


def _folders() -> list[Path]:
    """The standard's folders of this system, and those that are named to it."""
    if sys.platform == "win32":
        usual = [os.environ.get("COMMONPROGRAMFILES", ""), os.environ.get("LOCALAPPDATA", "")]
        folders = [Path(usual[0]) / "CLAP", Path(usual[1]) / "Programs/Common/CLAP"]
    elif sys.platform == "darwin":
        folders = [Path("/Library/Audio/Plug-Ins/CLAP"), Path("~/Library/Audio/Plug-Ins/CLAP")]
    else:
        folders = [Path("~/.clap"), Path("/usr/lib/clap"), Path("/usr/local/lib/clap")]
    named = os.environ.get(PATH_VARIABLE, "").split(os.pathsep)
    return [*folders, *(Path(one) for one in named if one)]


def _child(asked: Mapping[str, Any], folder: Path, limits: Limits) -> tuple[dict[str, Any], Finished]:
    """What the hosting program said, and what it took. Raises RenderFailed."""
    question, answer = folder / "asked.json", folder / "told.json"
    question.write_text(json.dumps(asked), "utf-8")
    # Where the package and its like are: the program gets no other environment.
    own = {"PYTHONPATH": os.pathsep.join(filter(None, sys.path)), "OPENBLAS_NUM_THREADS": "1", "HOME": str(folder)}
    command = [sys.executable, "-m", "kind_echo.renderers.clap.child", str(question), str(answer)]
    try:
        finished = run_limited(command, limits, folder, own)
    except RenderFailed as error:
        name = Path(str(asked["path"])).name
        raise RenderFailed(error.reason.replace(Path(sys.executable).name, name, 1), error.log) from error
    try:
        told: dict[str, Any] = json.loads(answer.read_text("utf-8"))
    except (OSError, ValueError) as error:
        raise RenderFailed("the plug-in ended its process before anything was told", finished.log) from error
    return told, finished


def _about(told: dict[str, Any]) -> PluginAbout:
    parameters = tuple(PluginParameter(**one) for one in told["parameters"])
    lists = {key: tuple(told[key]) for key in ("features", "inputs", "outputs")}
    return PluginAbout(**{**told, **lists, "parameters": parameters})


def _offered(builds: list[Installed]) -> OfferedEffect:
    newest = max(builds, key=lambda one: one.path.stat().st_mtime)
    about = newest.about
    parameters: tuple[dict[str, Any], ...] = tuple(
        {"name": p.name, "default": p.default, "unit": "", "least": p.least, "greatest": p.greatest, "choices": []}
        for p in about.parameters
    )
    ports = f"{about.inputs[0]} in, {about.outputs[0]} out"
    versions = tuple(dict.fromkeys(one.build for one in sorted(builds, key=lambda one: one.path.stat().st_mtime)))
    name = plain_name(about.name) or about.id
    return OfferedEffect(name, about.id, f"CLAP plug-in, {ports}", parameters, versions, channels=(about.inputs[0],))


def _digest(path: Path) -> str:
    """Of all files of a plug-in: on some systems it is a folder."""
    found = hashlib.sha256()
    for file in sorted(path.rglob("*")) if path.is_dir() else [path]:
        if file.is_file():
            found.update(file.read_bytes())
    return found.hexdigest()[:_VERSION_DIGITS]
