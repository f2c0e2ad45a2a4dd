"""Renderers that a file on the render machine declares: a command with placeholders, run without a shell.

Only that file names a program. What comes from elsewhere fills placeholders, each inside one argument, after it has
been checked against the bounds or the choices that the file gives.
"""

import hashlib
import re
import shutil
import tomllib
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.renderers.contract import (
    Offer,
    OfferedEffect,
    OfferedHost,
    RenderFailed,
    RenderRequest,
    RenderResult,
    Values,
    fits,
)
from kind_echo.renderers.exchange import exchange
from kind_echo.renderers.process import Finished, Limits, run_limited

_PLACEHOLDER = re.compile(r"\{([^{}]*)\}")
_ALWAYS = ("input", "output", "rate", "block_size", "mode", "version", "channels")
_SAFE_BUILD = re.compile(r"[A-Za-z0-9][A-Za-z0-9._+-]*")  # it becomes a part of an argument
_RESERVED = ("stand-in", "lv2", "clap", "vst3", "au", "analysis", "by hand")


class BadDeclaration(KindEchoError):
    """A file of renderers cannot be used."""

    def __init__(self, path: Path, reason: str) -> None:
        self.path, self.reason = path, reason
        super().__init__(f"{path} declares no renderers that can be used: {reason}")


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid")


class DeclaredParameter(_Model):
    """A number between bounds, or one of several words."""

    default: float | str
    unit: str = ""
    least: float | None = None
    greatest: float | None = None
    choices: list[str] = []

    @model_validator(mode="after")
    def _bounded(self) -> "DeclaredParameter":
        if not self.choices and (self.least is None or self.greatest is None):
            raise ValueError("give least and greatest, or choices")
        return self

    def text(self, name: str, value: float | int | str) -> str:
        """The value as it stands in an argument. Raises RenderFailed for one that is not allowed."""
        if self.choices:
            if value in self.choices:
                return str(value)
            raise RenderFailed(f"{name}={value!r} is none of {', '.join(self.choices)}")
        low, high = self.least, self.greatest
        if isinstance(value, str) or low is None or high is None or not low <= value <= high:
            raise RenderFailed(f"{name}={value!r} is no number from {low:g} to {high:g}")
        return f"{value:.12g}"


class ClaimedLatency(_Model):
    """How the latency that the effect claims is known: a number of frames, or a pattern whose group is in the log."""

    frames: int | None = None
    pattern: str | None = None

    @model_validator(mode="after")
    def _one_way(self) -> "ClaimedLatency":
        if (self.frames is None) == (self.pattern is None):
            raise ValueError("give either frames or pattern")
        if self.pattern is not None and re.compile(self.pattern).groups != 1:
            raise ValueError("the pattern needs one group, the number of frames")
        return self

    def read(self, log: str) -> int | None:
        """Frames; None where the log does not tell."""
        if self.frames is not None:
            return self.frames
        found = re.search(self.pattern or "", log)
        return int(float(found.group(1))) if found else None


class Declaration(_Model):
    """One renderer of the file."""

    title: str = Field(min_length=1, max_length=60)
    version: str = Field(min_length=1, max_length=40)
    description: str = ""
    effect: str = Field(min_length=1, max_length=60)
    builds: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9*?][A-Za-z0-9._+*?-]*$")]] = Field(min_length=1)
    command: list[str] = Field(min_length=1)
    modes: list[Literal["offline", "real time"]] = ["offline"]
    parameters: dict[Annotated[str, Field(pattern=r"^[a-z][a-z0-9_ -]*$")], DeclaredParameter] = {}
    latency: ClaimedLatency | None = None
    compensated: bool = False
    file: Literal["FLOAT", "PCM_16", "PCM_24", "PCM_32"] = "FLOAT"
    time_limit: float = Field(default=120.0, gt=0)
    memory_limit: int = Field(default=2048, gt=0)
    size_limit: int = Field(default=2048, gt=0)
    folder: str | None = None
    environment: dict[str, str] = {}

    @property
    def patterns(self) -> tuple[str, ...]:
        """Those of the builds that stand for many."""
        return tuple(build for build in self.builds if set(build) & set("*?"))

    @model_validator(mode="after")
    def _placeholders_are_known(self) -> "Declaration":
        used = {name for part in self.command for name in _PLACEHOLDER.findall(part)}
        unknown = sorted(used - set(_ALWAYS) - set(self.parameters))
        if unknown:
            raise ValueError(f"the command names {', '.join(unknown)}, which is no parameter")
        if not {"input", "output"} <= used:
            raise ValueError("the command needs {input} and {output}")
        if _PLACEHOLDER.search(self.command[0]):
            raise ValueError("the program itself may not be a placeholder")
        return self


class DeclaredRenderer:
    """Fills the placeholders of a declaration, and runs it."""

    def __init__(self, declared: Declaration) -> None:
        self._declared = declared

    def render(self, request: RenderRequest) -> RenderResult:
        """Render one case. Raises RenderFailed."""
        declared = self._declared
        if not fits(request.version, declared.builds, declared.patterns) or not _SAFE_BUILD.fullmatch(request.version):
            raise RenderFailed(f"this machine declares no build {request.version} of {declared.effect}")
        words = self._words(request)
        limits = Limits(declared.time_limit, declared.memory_limit, declared.size_limit)

        def work(folder: Path, source: Path, target: Path) -> Finished:
            filled = words | {"input": str(source), "output": str(target)}
            command = [_PLACEHOLDER.sub(lambda m: filled[m.group(1)], part) for part in declared.command]
            return run_limited(command, limits, Path(declared.folder or folder), declared.environment)

        samples, finished = exchange(request.signal, request.rate, declared.file, work)
        claimed = declared.latency.read(finished.log) if declared.latency is not None else None
        return RenderResult(samples, claimed, declared.compensated, finished.log, finished.cpu_seconds, finished.memory)

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        """Digest of the declaration and of the program that it names; None where that is not found."""
        program = shutil.which(self._declared.command[0], path=self._declared.environment.get("PATH"))
        if program is None:
            return None
        parts = self._declared.model_dump_json().encode() + Path(program).read_bytes()
        return hashlib.sha256(parts).hexdigest()

    def _words(self, request: RenderRequest) -> dict[str, str]:
        known = self._declared.parameters
        unknown = sorted(set(request.values) - set(known))
        if unknown:
            raise RenderFailed(f"{self._declared.effect} has no parameter {', '.join(unknown)}")
        values: Values = {name: parameter.default for name, parameter in known.items()} | request.values
        words = {name: known[name].text(name, value) for name, value in values.items()}
        return words | {
            "rate": str(request.rate),
            "block_size": str(request.block_size),
            "mode": request.mode,
            "version": request.version,
            "channels": str(request.signal.shape[1]),
        }


def read_declarations(path: Path) -> list[Offer]:
    """The renderers of a file: a table [renderer.NAME] each; of folders of builds, [builds.NAME], others read.

    Raises BadDeclaration.
    """
    try:
        document = tomllib.loads(path.read_text())
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise BadDeclaration(path, f"it cannot be read ({error}).") from error
    tables = document.get("renderer", {})
    if not isinstance(tables, dict) or not document or not set(document) <= {"renderer", "builds"}:
        raise BadDeclaration(path, "it holds other things than tables named [renderer.NAME] and [builds.NAME].")
    return [_offer(path, name, table) for name, table in tables.items()]


def _offer(path: Path, name: str, table: object) -> Offer:
    if name in _RESERVED or not re.fullmatch(r"[a-z][a-z0-9-]{0,29}", name):
        form = "up to 30 small letters, digits, hyphens; not taken"
        raise BadDeclaration(path, f"{name!r} is no name for a renderer ({form}).")
    try:
        declared = Declaration.model_validate(table)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in (name, *first["loc"]))
        raise BadDeclaration(path, f"{where}: {first['msg']}.") from error
    parameters: tuple[ParameterDocument, ...] = tuple(
        {"name": key, "default": p.default, "unit": p.unit, "least": p.least or 0.0, "greatest": p.greatest or 0.0,
         "choices": list(p.choices)}
        for key, p in declared.parameters.items()
    )  # fmt: skip
    named = tuple(build for build in declared.builds if build not in declared.patterns)
    effect = OfferedEffect(declared.effect, "", declared.description, parameters, named, declared.patterns)
    host = OfferedHost(declared.title, declared.version, f"A command that this machine declares as {name}",
                       tuple(declared.modes))  # fmt: skip
    return Offer(name, declared.description, DeclaredRenderer(declared), (host,), (effect,))
