"""What every renderer does: (signal, setting, build, condition) in, audio out; and what it says that it can do."""

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any, Protocol

from kind_echo.core.audio.source import Samples
from kind_echo.core.levels.hosting import HostedBlocks
from kind_echo.core.registry.errors import KindEchoError
from kind_echo.core.registry.offer_documents import ParameterDocument

Values = dict[str, Any]
"""Of parameters by name: numbers, texts, or a course in time, which plug-ins alone take."""
BuildKey = tuple[str, str, str]
"""A build as a renderer knows it: effect, handle, version."""


class RenderFailed(KindEchoError):
    """A renderer could not turn a request into audio; the reason is kept with the cell, and what was printed."""

    def __init__(self, reason: str, log: str = "") -> None:
        self.reason, self.log = reason, log
        super().__init__(f"The render failed: {reason}")


@dataclass(frozen=True)
class UploadedBuild:
    """A build that was uploaded to the server as a plug-in's file.

    Attributes:
        name: of the file, whose ending tells the standard.
        fetch: writes its bytes to a file.
    """

    sha256: str
    name: str
    fetch: Callable[[Path], None]


@dataclass(frozen=True)
class RenderRequest:
    """All that a renderer needs to know.

    Attributes:
        signal: the stimulus at the condition's rate, shape (frames, channels).
        values: parameters of the setting by name.
        block_size: frames that the host processes at a time.
        handle: what the renderer knows the effect by, where that is not its name.
        parts: of a sum, the values of each of its parts; a renderer is asked for one after the other.
        double: samples of 64 bits, where the effect has them.
        preset: a state that the effect begins from; empty for its own.
        variation: what a host does otherwise than usual, of `VARIATIONS`; empty for nothing.
        take: which of the takes this is, from 1.
        hosting: what its host does of `HOSTING`.
        uploaded: the build, where it was uploaded; None for one that the machine has.
    """

    effect: str
    version: str
    values: Values
    host: str
    host_version: str
    mode: str
    rate: int
    block_size: int
    signal: Samples
    handle: str = ""
    parts: tuple[Values, ...] = ()
    double: bool = False
    preset: bytes = b""
    variation: str = ""
    take: int = 1
    hosting: tuple[str, ...] = ()
    uploaded: UploadedBuild | None = None


VARIATIONS = {
    "blocks": "blocks of drawn sizes",
    "state": "a new instance from the saved state",
    "instances": "another instance beside it",
    "reset": "a render before it, and a reset",
}
"""What a host does in the second take and those after it, by key: what comes out must be the same."""


LATENCY_OFF = "latency off"
BY_THE_CLOCK = "by the clock"
HOSTING = {
    LATENCY_OFF: "the latency that the effect tells is taken off what comes out",
    BY_THE_CLOCK: "each block waits for its time, and those that come late are counted",
}
"""What a host does for a condition that asks for it, where it can."""


@dataclass(frozen=True)
class RenderResult:
    """What came back.

    Attributes:
        samples: shape (frames, channels).
        claimed_latency: frames that the effect claims; None where nothing tells.
        compensated: the claimed latency has been taken off the samples.
        log: what the renderer printed.
        cpu_seconds, memory: what another process took, memory in MB; None where it was this one.
        blocks: what its host saw of its blocks; None where no host tells.
    """

    samples: Samples
    claimed_latency: int | None
    compensated: bool = True
    log: str = ""
    cpu_seconds: float | None = None
    memory: float | None = None
    blocks: HostedBlocks | None = None


class Renderer(Protocol):
    """Turns a request into audio. Raises RenderFailed."""

    def render(self, request: RenderRequest) -> RenderResult:
        """Render one case under one condition."""
        ...

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        """Digest of what would render that build here: effect and renderer; None where it cannot be told."""
        ...


@dataclass(frozen=True)
class OfferedHost:
    """A host that a renderer has.

    Attributes:
        system: it runs on, where that tells builds apart.
        hosting: what it can do of `HOSTING`.
    """

    name: str
    version: str
    description: str
    modes: tuple[str, ...]
    system: str = ""
    hosting: tuple[str, ...] = ()


@dataclass(frozen=True)
class OfferedEffect:
    """An effect that a renderer has installed.

    Attributes:
        handle: what the renderer knows it by.
        parameters: what can be set.
        versions: its builds, oldest first.
        patterns: of names of builds that it has as well, with `*` and `?` as in file names.
        channels: how many it can be given; empty where any number will do, or that is not known.
    """

    name: str
    handle: str
    description: str
    parameters: tuple[ParameterDocument, ...]
    versions: tuple[str, ...]
    patterns: tuple[str, ...] = ()
    channels: tuple[int, ...] = ()


def fits(version: str, versions: Iterable[str], patterns: Iterable[str]) -> bool:
    """Whether a build is among those named, or its name fits a pattern."""
    return version in versions or any(fnmatchcase(version, pattern) for pattern in patterns)


@dataclass(frozen=True)
class NotOffered:
    """A file that a renderer looked at and cannot offer, and why."""

    file: str
    reason: str


@dataclass(frozen=True)
class Offer:
    """What a renderer on a machine can do.

    Attributes:
        queue: its name, which the queues of its jobs begin with.
        simulated: its hosts are of interest only to who has added one of its effects.
        failed: what it looked at and cannot offer.
        accepts: it runs builds that were uploaded, too.
    """

    queue: str
    description: str
    renderer: Renderer
    hosts: tuple[OfferedHost, ...]
    effects: tuple[OfferedEffect, ...] = field(default=())
    simulated: bool = False
    failed: tuple[NotOffered, ...] = ()
    accepts: bool = False


class RemoteRenderer:
    """A renderer on another machine, of which is known here only what it said."""

    def __init__(self, artefacts: Mapping[BuildKey, str | None]) -> None:
        self._artefacts = artefacts

    def render(self, request: RenderRequest) -> RenderResult:
        """Raises RenderFailed: what renders stands elsewhere, and takes its jobs there."""
        raise RenderFailed("it is rendered on another machine")

    def artefact(self, effect: str, handle: str, version: str) -> str | None:
        """What the machine said; None of what it did not speak of."""
        return self._artefacts.get((effect, handle, version))
