"""Bodies of effects and their builds."""

from collections.abc import Mapping, Sequence
from typing import Annotated, Literal

from pydantic import AfterValidator, AwareDatetime, ConfigDict, Field, Json

from kind_echo.bench.plans import Expectation, Values
from kind_echo.core.registry.names import build_name
from kind_echo.web.http.schemas import Body, BuildBody, RequestModel, ShownName
from kind_echo.web.machines.schemas import OfferedParameterBody


class AboutBody(Body):
    """What an uploaded plug-in says of itself: its parameters, and how many channels it can be given."""

    parameters: list[OfferedParameterBody] = Field(default=[], max_length=2000)
    channels: list[Annotated[int, Field(ge=1, le=64)]] = Field(default=[], max_length=64)


class NewEffectBody(Body):
    """An effect to be added, by the name that a machine offers it under.

    With `bare`, one that no machine has yet: builds of it are uploaded, and the first of them tells its parameters.
    """

    name: Annotated[str, Field(min_length=1, max_length=80), ShownName]
    bare: bool = False


class NewSettingBody(Body):
    """Named values of an effect's parameters."""

    name: Annotated[str, Field(min_length=1, max_length=120), ShownName]
    values: Values = Field(default={}, max_length=2000)


class NewPresetQuery(RequestModel):
    """What a preset's file is to be called as a setting; `values`, as JSON, are set over it."""

    name: Annotated[str, Field(min_length=1, max_length=120), ShownName]
    file: str = Field(min_length=1, max_length=200)
    values: Json[Values] = Field(default="{}", validate_default=True)


class NewArtefactQuery(RequestModel):
    """What an uploaded plug-in's file is called, the system that it is for, and its signature in base64."""

    name: str = Field(min_length=1, max_length=120)
    system: Literal["linux", "macos", "windows"]
    signature: str = Field(default="", max_length=400)


class ArtefactBody(Body):
    """A plug-in that was uploaded for a build; `size` in bytes."""

    model_config = ConfigDict(from_attributes=True)

    standard: str
    system: str
    name: str
    sha256: str
    size: int
    signed_by: str | None
    uploaded_at: AwareDatetime
    uploaded_by: str


class NewBuildBody(Body):
    """A build that has been made of an effect."""

    effect: str = Field(min_length=1, max_length=80)
    version: Annotated[str, AfterValidator(build_name)]
    note: str = Field(default="", max_length=400)


class ChangeBuildBody(Body):
    """What is to change of a build; null leaves it as it is."""

    version: Annotated[str, AfterValidator(build_name)] | None = None
    note: str | None = Field(default=None, max_length=400)
    archived: bool | None = None
    move: Literal["earlier", "later"] | None = None


class SettingPath(RequestModel):
    """Which setting."""

    setting_id: int


class SettingBody(Body):
    """Named values of an effect's parameters."""

    id: int
    name: str
    archived: bool
    values: Values
    preset: str | None
    expected: Expectation | None


class ExpectBody(Body):
    """What is expected of a setting; null for nothing more."""

    expected: Expectation | None = None


class NamedBuildBody(BuildBody):
    """A build, and whether a machine gives it its name: then it is neither renamed nor deleted here."""

    named_by_machine: bool
    artefacts: list[ArtefactBody]


class EffectBody(Body):
    """An effect under test: what can be set, its builds oldest first, its settings."""

    id: int
    name: str
    archived: bool
    description: str
    parameters: Sequence[Mapping[str, object]]
    builds: list[NamedBuildBody]
    settings: list[SettingBody]


class EffectsBody(Body):
    """All effects by name."""

    effects: list[EffectBody]
