"""What render machines say and are told: arrivals, jobs, and what is delivered."""

from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from kind_echo.web.http.schemas import Body

_Name = Annotated[str, Field(min_length=1, max_length=120)]
_Queue = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,29}$")]


class OfferedHostBody(Body):
    """A host that a renderer has."""

    name: _Name
    version: _Name
    description: str = Field(default="", max_length=400)
    modes: list[Literal["offline", "real time"]] = Field(min_length=1, max_length=2)


class InstalledEffectBody(Body):
    """An effect that a renderer has installed, with its builds, oldest first, and patterns of others that it has."""

    name: _Name
    handle: str = Field(default="", max_length=400)
    description: str = Field(default="", max_length=2000)
    parameters: list[dict[str, Any]] = Field(default_factory=list, max_length=2000)
    versions: list[_Name] = Field(max_length=1000)
    patterns: list[_Name] = Field(default_factory=list, max_length=100)


class MachineOfferBody(Body):
    """What a renderer on a machine can do."""

    queue: _Queue
    description: str = Field(default="", max_length=2000)
    hosts: list[OfferedHostBody] = Field(max_length=200)
    effects: list[InstalledEffectBody] = Field(default_factory=list, max_length=2000)


class ArrivalBody(Body):
    """A machine that arrives: its name, the number of its process, and what it has."""

    machine: _Name
    process: int = Field(ge=0)
    offers: list[MachineOfferBody] = Field(min_length=1, max_length=100)


class ArrivedBody(Body):
    """The number under which the machine takes jobs."""

    worker_id: int


class PresenceBody(Body):
    """A machine that is still there, or that leaves."""

    leaves: bool = False


class TakeBody(Body):
    """The renderers that a job is asked of."""

    queues: list[_Queue] = Field(min_length=1, max_length=100)


class BuildKeyBody(Body):
    """A build as a renderer knows it; `artefact` is the digest of what would render it, null where that is unknown."""

    effect: str
    handle: str
    version: str
    artefact: str | None = Field(default=None, max_length=200)


class RenderJobBody(Body):
    """A render to make; its signal is fetched by itself."""

    effect: str
    handle: str
    version: str
    values: dict[str, float | int | str]
    host: str
    host_version: str
    mode: str
    rate: int
    block_size: int
    channels: int
    frames: int
    takes: int
    word_length: str
    parts: list[dict[str, float | int | str]]


class JobBody(Body):
    """A job: builds to say something of, or a render to make."""

    job_id: int
    builds: list[BuildKeyBody]
    render: RenderJobBody | None


class TakenBody(Body):
    """The next job, or none."""

    job: JobBody | None


class AnswersBody(Body):
    """What a machine says of the builds that it was asked about."""

    builds: list[BuildKeyBody] = Field(max_length=1000)


class DeliveryHead(BaseModel):
    """What stands before the samples: of each take its frames, and what is known beside the samples.

    `claimed_latency` is in frames, `wall` and `cpu` in seconds for all takes, `memory` in MB.
    """

    frames: list[Annotated[int, Field(ge=1)]] = Field(min_length=1, max_length=100)
    channels: int = Field(ge=1, le=64)
    artefact: str | None = Field(default=None, max_length=200)
    claimed_latency: int | None = None
    compensated: bool = True
    wall: float = Field(ge=0, allow_inf_nan=False)
    cpu: float = Field(ge=0, allow_inf_nan=False)
    memory: float | None = Field(default=None, ge=0, allow_inf_nan=False)
    log: str = Field(default="", max_length=200_000)


class FailureBody(Body):
    """Why a machine could not render."""

    reason: str = Field(min_length=1, max_length=2000)
    log: str = Field(default="", max_length=200_000)


class MachinePath(BaseModel):
    """Which machine."""

    worker_id: int


class MachineJobPath(MachinePath):
    """Which job of a machine."""

    job_id: int
