"""The shape of what is asked and said of hosts, machines and effects."""

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from kind_echo.web.http.schemas import Body, RequestModel, ShownName


class WaitingRunBody(Body):
    """A run with cells that wait to be rendered in a host."""

    run_id: int
    effect: str
    version: str
    plan: str
    cells: int


class HostBody(Body):
    """A version of a host: who renders in it, and what waits for it."""

    id: int
    name: str
    version: str
    archived: bool
    description: str
    renderer: str
    by_hand: bool
    modes: list[str]
    hosting: list[str]
    machines: list[str]
    waiting: list[WaitingRunBody]


class HostPath(RequestModel):
    """Which host."""

    host_id: int


class ChangeHostBody(Body):
    """What is to change of a host; null leaves it as it is. One that a machine has keeps its name."""

    name: Annotated[str, Field(min_length=1, max_length=60), ShownName] | None = None
    version: Annotated[str, Field(min_length=1, max_length=40), ShownName] | None = None
    archived: bool | None = None


class OfferedEffectBody(Body):
    """An effect that a renderer has; whether it is known here."""

    name: str
    description: str
    versions: list[str]
    known: bool


class NotOfferedBody(Body):
    """A file that a renderer looked at and cannot offer, and why."""

    file: str
    reason: str


class OfferBody(Body):
    """A renderer of a machine; `accepts` says whether it runs builds that are uploaded."""

    queue: str
    description: str
    hosts: list[str]
    effects: list[OfferedEffectBody]
    failed: list[NotOfferedBody]
    accepts: bool


class UnapprovedBody(Body):
    """What a machine offers and may not render: what waits for a keeper, and what collides with what is known."""

    hosts: list[str]
    effects: list[str]
    collisions: list[str]


class MachineBody(Body):
    """A machine: its workers that are at work, what it can render, and what it may not."""

    name: str
    at_work: int
    silent: int
    started_at: datetime
    seen_at: datetime
    renderers: list[OfferBody]
    unapproved: UnapprovedBody | None


class HostsBody(Body):
    """Hosts and machines."""

    hosts: list[HostBody]
    machines: list[MachineBody]


class NewHostBody(Body):
    """A host that people render in, to be added."""

    name: Annotated[str, Field(min_length=1, max_length=60), ShownName]
    version: Annotated[str, Field(min_length=1, max_length=40), ShownName]
    description: str = Field(default="", max_length=200)
    modes: list[Literal["real time", "offline"]] = Field(min_length=1, max_length=2)
