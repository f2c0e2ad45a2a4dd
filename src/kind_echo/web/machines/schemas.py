"""What render machines say and are told: arrivals, jobs, and what is delivered."""

from typing import Annotated, Literal, cast

from pydantic import AfterValidator, BaseModel, Field, model_validator

from kind_echo.bench.plans import Hosting, Values
from kind_echo.core.registry.names import build_name
from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.web.http.schemas import Body, RequestModel, ShownName, ShownTitle

_Name = Annotated[str, Field(min_length=1, max_length=120), ShownName]
_Title = Annotated[str, Field(min_length=1, max_length=300), ShownTitle]
_Word = Annotated[str, Field(max_length=300), ShownTitle]
_MOST = 1e15
"""Of any number that a machine says of a parameter."""

_MOST_LATENCY = 10_000_000
"""Frames, to either side: a minute at 176.4 kHz."""

_MOST_SECONDS = 1e7
_Number = (
    Annotated[float, Field(strict=True, allow_inf_nan=False, ge=-_MOST, le=_MOST)]
    | Annotated[int, Field(strict=True, ge=-int(_MOST), le=int(_MOST))]
)
_Queue = Annotated[str, Field(pattern=r"^[a-z][a-z0-9-]{0,29}$")]


class OfferedHostBody(Body):
    """A host that a renderer has."""

    name: _Name
    version: _Name
    description: str = Field(default="", max_length=400)
    modes: list[Literal["offline", "real time"]] = Field(min_length=1, max_length=2)
    system: Literal["", "linux", "macos", "windows"] = ""
    hosting: list[Hosting] = Field(default=[], max_length=10)


class NotOfferedBody(Body):
    """A file that a renderer looked at and cannot offer, and why."""

    file: str = Field(max_length=1000)
    reason: str = Field(max_length=2000)


class OfferedParameterBody(Body):
    """What can be set of an effect: a number between bounds, or one of several words or numbers."""

    name: _Title
    default: _Number | _Word
    unit: str = Field(default="", max_length=20)
    least: _Number = 0.0
    greatest: _Number = 0.0
    choices: list[_Number | _Word] = Field(default_factory=list, max_length=500)
    text: str = Field(default="", max_length=400)
    stepped: bool = False
    bypass: _Number | None = None

    @property
    def document(self) -> ParameterDocument:
        """As it is kept."""
        return cast("ParameterDocument", self.model_dump(exclude_none=True))

    @model_validator(mode="after")
    def _has_a_range(self) -> "OfferedParameterBody":
        if not self.choices and self.least > self.greatest:
            raise ValueError("least is above greatest")
        return self


class InstalledEffectBody(Body):
    """An effect that a renderer has installed, with its builds, oldest first, and patterns of others that it has."""

    name: _Name
    handle: str = Field(default="", max_length=400)
    description: str = Field(default="", max_length=2000)
    parameters: list[OfferedParameterBody] = Field(default_factory=list, max_length=2000)
    versions: list[Annotated[str, AfterValidator(build_name)]] = Field(max_length=1000)
    patterns: list[Annotated[str, Field(pattern=r"^[A-Za-z0-9*?][A-Za-z0-9._+*?-]{0,79}$")]] = Field(
        default_factory=list, max_length=100
    )
    channels: list[Annotated[int, Field(ge=1, le=64)]] = Field(default_factory=list, max_length=64)


class MachineOfferBody(Body):
    """What a renderer on a machine can do."""

    queue: _Queue
    description: str = Field(default="", max_length=2000)
    hosts: list[OfferedHostBody] = Field(max_length=200)
    effects: list[InstalledEffectBody] = Field(default_factory=list, max_length=2000)
    failed: list[NotOfferedBody] = Field(default_factory=list, max_length=500)
    accepts: bool = False


class ArrivalBody(Body):
    """A machine that arrives: its name, the number of its process, and what it has."""

    machine: _Name
    process: int = Field(ge=0, le=2**31 - 1)
    offers: list[MachineOfferBody] = Field(min_length=1, max_length=100)


class ArrivedBody(Body):
    """The number under which the machine takes jobs; while something of it waits for a keeper, it gets none of that."""

    worker_id: int
    waits_for_approval: bool


class PresenceBody(Body):
    """A machine that is still there, or that leaves."""

    leaves: bool = False


class SeenBody(Body):
    """What a machine is told when it says that it is there: whether to look again at what it has."""

    look_again: bool


class TakeBody(Body):
    """The renderers that a job is asked of."""

    queues: list[_Queue] = Field(min_length=1, max_length=100)


class BuildKeyBody(Body):
    """A build as a renderer knows it; `artefact` is the digest of what would render it, null where that is unknown."""

    effect: str
    handle: str
    version: str
    artefact: str | None = Field(default=None, max_length=200)


class UploadedBuildBody(Body):
    """A build that was uploaded: fetched by itself, where the machine has it not yet."""

    sha256: str
    name: str


class RenderJobBody(Body):
    """A render to make; its signal is fetched by itself."""

    effect: str
    handle: str
    version: str
    values: Values
    host: str
    host_version: str
    mode: str
    rate: int
    block_size: int
    channels: int
    frames: int
    takes: int
    word_length: str
    parts: list[Values]
    variation: str
    hosting: list[str]
    preset: bool
    uploaded: UploadedBuildBody | None


class JobBody(Body):
    """A job: builds to say something of, or a render to make."""

    job_id: int
    builds: list[BuildKeyBody]
    renderer: str
    render: RenderJobBody | None


class TakenBody(Body):
    """The next job, or none."""

    job: JobBody | None


class AnswersBody(Body):
    """What a machine says of the builds that it was asked about."""

    builds: list[BuildKeyBody] = Field(max_length=1000)


class HostedBlocksBody(BaseModel):
    """What a host of plug-ins saw of the blocks of a render, in seconds; `decay` is a ratio."""

    loaded: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    first: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    median: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    most: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    worst: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    decay: float = Field(ge=0, le=1e12, allow_inf_nan=False)
    wrote_input: bool | None = None
    late: int | None = Field(default=None, ge=0, le=int(_MOST))


class DeliveryHead(BaseModel):
    """What stands before the samples: of each take its frames, and what is known beside the samples.

    `claimed_latency` is in frames, `wall` and `cpu` in seconds for all takes, `memory` in MB.
    """

    frames: list[Annotated[int, Field(ge=1)]] = Field(min_length=1, max_length=100)
    channels: int = Field(ge=1, le=64)
    artefact: str | None = Field(default=None, max_length=200)
    claimed_latency: int | None = Field(default=None, ge=-_MOST_LATENCY, le=_MOST_LATENCY)
    compensated: bool = True
    wall: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    cpu: float = Field(ge=0, le=_MOST_SECONDS, allow_inf_nan=False)
    memory: float | None = Field(default=None, ge=0, le=1e9, allow_inf_nan=False)
    log: str = Field(default="", max_length=200_000)
    blocks: HostedBlocksBody | None = None


class FailureBody(Body):
    """Why a machine could not render."""

    reason: str = Field(min_length=1, max_length=2000)
    log: str = Field(default="", max_length=200_000)


class MachineNamePath(RequestModel):
    """Which machine, by its name."""

    name: str


class MachinePath(RequestModel):
    """Which machine."""

    worker_id: int


class MachineJobPath(MachinePath):
    """Which job of a machine."""

    job_id: int
