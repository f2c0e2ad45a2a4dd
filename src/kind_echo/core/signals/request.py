"""What is asked of a signal, within which bounds, and what makes it: one class for each kind."""

import importlib
import pkgutil
from abc import ABC, abstractmethod
from dataclasses import dataclass, fields
from functools import cache
from typing import Any, ClassVar, Literal, get_type_hints

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.signals.parameter import (
    Channels,
    LeadIn,
    Level,
    Parameter,
    Placement,
    Seconds,
    Seed,
    Tail,
    among,
)

Mono = NDArray[np.float64]
Method = Literal["tone", "imd", "alias_sweep", "response", "latency", "transfer", "dynamics"]
Default = float | int | str | bool | None

PEAK_LEVEL = "dBFS, the peak"
SINE_LEVEL = "dBFS, the peak of the sine, which is also its AES17 RMS"
POWER_LEVEL = "dBFS, the AES17 RMS: a full-scale sine reads 0"

OWN_FILE = "file"
"""The kind of a signal that is a person's own file; what is asked of it is the digest of its content."""

SignalDocument = dict[str, Any]
"""A signal as JSON keeps it: its kind and every parameter, or the digest and name of a person's own file."""

_SHARED = ("level", "seconds", "lead_in", "tail", "placement")
_KINDS: dict[str, type["SignalRequest"]] = {}


@dataclass(frozen=True)
class SignalRequest(ABC):
    """What is asked of a signal. A kind of signal is a subclass, with its own parameters as annotated fields.

    Attributes:
        level: dBFS; what of the signal it is of, `level_means` says.
        seconds: length of the sound, lead-in and tail not counted.
        channels: 1 to 8.
        placement: the same in every channel, in the first or the second of two alone, opposite in the second, or (of
            strikes, noise and pieces) apart: the second with a seed of its own.
        seed: of what is drawn.
        lead_in, tail: silence before and after, in seconds.

    Class attributes:
        kind: its name in plans and on the command line. A class without one is no kind.
        title, purpose: its name on the page, and what it is for.
        level_means: what its level is the level of; empty where it has none.
        expect: what a good effect makes of it, and what to look for.
        rank: its place in the list of kinds.
        method: how a render of it is measured, beside levels; None for what is compared alone.
        drawn: whether it has a seed.
        own_length: whether it is as long as its parameters make it, whatever `seconds` is.
    """

    kind: ClassVar[str] = ""
    title: ClassVar[str] = ""
    purpose: ClassVar[str] = ""
    level_means: ClassVar[str] = PEAK_LEVEL
    expect: ClassVar[str] = ""
    rank: ClassVar[int] = 1000
    method: ClassVar[Method | None] = None
    drawn: ClassVar[bool] = False
    own_length: ClassVar[bool] = False

    level: Level = -6.0
    seconds: Seconds = 2.0
    channels: Channels = 1
    placement: Placement = "equal"
    seed: Seed = 1
    lead_in: LeadIn = 0.0
    tail: Tail = 0.0

    def __init_subclass__(cls) -> None:
        super().__init_subclass__()
        if cls.kind:
            _KINDS[cls.kind] = cls

    def __post_init__(self) -> None:
        for name, parameter in specifications(type(self)).items():
            parameter.check(name, getattr(self, name))
        if self.placement != "equal" and self.channels != 2:
            raise BadParameter("channels", self.channels, "2 where the channels are not equal")
        if self.placement == "apart" and not self.drawn:
            names = ", ".join(name for name, one in all_kinds().items() if one.drawn)
            raise BadParameter("placement", self.placement, f"used with a random signal: {names}")

    @abstractmethod
    def sound(self, frames: int, rate: int) -> Mono:
        """The signal itself, shape (frames,); of its own length where that is its own. Raises BadParameter."""

    def sound_seconds(self, rate: int) -> float:
        """How long the sound is, lead-in and tail not counted."""
        return self.seconds

    @property
    def one_sine(self) -> float | None:
        """The frequency in Hz where all of it is one sine: a delay is then known only within half a period."""
        return None

    @property
    def two_sines(self) -> tuple[float, float] | None:
        """The frequencies in Hz where it is two sines at once."""
        return None

    @property
    def amplitude(self) -> float:
        """The level as a factor of full scale."""
        return float(10 ** (self.level / 20))

    @classmethod
    def form(cls) -> dict[str, Parameter]:
        """What a form asks for, by name: its own parameters first, then what every kind has."""
        own = [name for name in specifications(cls) if name not in specifications(SignalRequest)]
        if cls.drawn:
            own.append("seed")
        shared = [
            name
            for name in _SHARED
            if not (name == "seconds" and cls.own_length) and not (name == "level" and not cls.level_means)
        ]
        return {name: specifications(cls)[name] for name in (*own, *shared)}


@dataclass(frozen=True)
class OwnFile:
    """A person's own file as a signal: nothing is known of it but what is measured.

    Attributes:
        sha256: digest of its content.
        name: of the file, as it was brought.
    """

    sha256: str
    name: str

    kind: ClassVar[str] = OWN_FILE
    method: ClassVar[Method | None] = None
    one_sine: ClassVar[float | None] = None

    def document(self) -> SignalDocument:
        """As JSON keeps it."""
        return {"kind": OWN_FILE, "sha256": self.sha256, "name": self.name}


Stimulus = SignalRequest | OwnFile
"""What goes into an effect."""


@cache
def specifications(kind: type[SignalRequest]) -> dict[str, Parameter]:
    """The parameters of a kind by the name of their field."""
    hints = get_type_hints(kind, include_extras=True)
    return {field.name: hints[field.name].__metadata__[0] for field in fields(kind)}


def all_kinds() -> dict[str, type[SignalRequest]]:
    """All kinds of signals by name, in the order in which they are listed."""
    _load()
    return dict(sorted(_KINDS.items(), key=lambda one: (one[1].rank, one[0])))


@cache
def _load() -> None:
    """Every module among the kinds makes its kind known by being imported."""
    package = importlib.import_module("kind_echo.core.signals.kinds")
    for module in pkgutil.iter_modules(package.__path__):
        importlib.import_module(f"{package.__name__}.{module.name}")


def every_parameter() -> dict[str, tuple[Parameter, Default]]:
    """What can be set of any kind, by name: its specification, and what holds unless something else is asked for."""
    return {
        name: (parameter, getattr(kind, name))
        for kind in all_kinds().values()
        for name, parameter in specifications(kind).items()
    }


def make_request(kind: str, **values: Any) -> SignalRequest:
    """The request for a signal of a kind; parameters of other kinds are checked, and left out of account.

    Raises:
        BadParameter: there is no such kind or parameter, or a value is out of bounds.
    """
    among("kind", kind, tuple(all_kinds()))
    made = _KINDS[kind]
    own, known = specifications(made), every_parameter()
    for name, value in values.items():
        if name not in known:
            raise BadParameter(name, value, "known to signals")
        if name not in own and value != known[name][1]:
            known[name][0].check(name, value)
    return made(**{name: value for name, value in values.items() if name in own})


def stimulus_of(document: SignalDocument) -> Stimulus:
    """The signal that a document keeps, in as few channels as it can have: how many it is played in comes with a
    condition.

    Raises:
        BadParameter: as `make_request`.
    """
    if document["kind"] == OWN_FILE:
        return OwnFile(str(document["sha256"]), str(document.get("name", "")))
    return make_request(**{**document, "channels": 1 if document.get("placement", "equal") == "equal" else 2})


def in_full(request: SignalDocument) -> SignalDocument:
    """A request with every default written out, so that a default that changes later changes nothing that is kept.

    Channels are left out unless asked for: they come with the condition.
    """
    usual = {name: default for name, (_, default) in every_parameter().items() if name != "channels"}
    return {**usual, **request}


def without_defaults(request: SignalDocument) -> SignalDocument:
    """What a request asks for beyond the defaults, for people to read."""
    known = every_parameter()
    return {name: value for name, value in request.items() if name == "kind" or value != known[name][1]}
