"""The shape of what is asked and said of hosts, machines and effects."""

import re
from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, Field

from kind_echo.web.http.schemas import Body, BuildBody


class WaitingRunBody(Body):
    """A run with cells that wait to be rendered in a host."""

    run_id: int
    effect: str
    version: str
    plan: str
    cells: int


class HostBody(Body):
    """A version of a host: who renders in it, and what waits for it."""

    name: str
    version: str
    description: str
    renderer: str
    by_hand: bool
    modes: list[str]
    machines: list[str]
    waiting: list[WaitingRunBody]


class OfferedEffectBody(Body):
    """An effect that a renderer has; whether it is known here."""

    name: str
    description: str
    versions: list[str]
    known: bool


class OfferBody(Body):
    """A renderer of a machine."""

    queue: str
    description: str
    hosts: list[str]
    effects: list[OfferedEffectBody]


class MachineBody(Body):
    """A machine: its workers that are at work, and what it can render."""

    name: str
    at_work: int
    silent: int
    started_at: datetime
    seen_at: datetime
    renderers: list[OfferBody]


class HostsBody(Body):
    """Hosts and machines."""

    hosts: list[HostBody]
    machines: list[MachineBody]


class NewHostBody(Body):
    """A host that people render in, to be added."""

    name: str = Field(min_length=1, max_length=60)
    version: str = Field(min_length=1, max_length=40)
    description: str = Field(default="", max_length=200)
    modes: list[Literal["real time", "offline"]] = Field(min_length=1, max_length=2)


class NewEffectBody(Body):
    """An effect to be added, by the name that a machine offers it under."""

    name: str = Field(min_length=1, max_length=80)


def build_name(name: str) -> str:
    """The name of a build, which stands in addresses and commands. Raises ValueError."""
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,79}", name):
        form = "begins with a letter or a digit, and has letters, digits and . _ + - alone, 80 at most"
        raise ValueError(f"{name!r} cannot be the name of a build, which {form}")
    return name


class NewBuildBody(Body):
    """A build that has been made of an effect."""

    effect: str = Field(min_length=1, max_length=80)
    version: Annotated[str, AfterValidator(build_name)]
    note: str = Field(default="", max_length=400)


class SettingBody(Body):
    """Named values of an effect's parameters."""

    id: int
    name: str
    values: dict[str, float | int | str]


class EffectBody(Body):
    """An effect under test: what can be set, its builds oldest first, its settings."""

    id: int
    name: str
    description: str
    parameters: list[dict[str, Any]]
    builds: list[BuildBody]
    settings: list[SettingBody]


class EffectsBody(Body):
    """All effects by name."""

    effects: list[EffectBody]
