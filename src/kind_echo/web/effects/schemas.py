"""Bodies of effects and their builds."""

import re
from typing import Annotated, Any

from pydantic import AfterValidator, Field

from kind_echo.web.http.schemas import Body, BuildBody, RequestModel, ShownName


def build_name(name: str) -> str:
    """The name of a build, which stands in addresses and commands. Raises ValueError."""
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._+-]{0,79}", name):
        form = "begins with a letter or a digit, and has letters, digits and . _ + - alone, 80 at most"
        raise ValueError(f"{name!r} cannot be the name of a build, which {form}")
    return name


class NewEffectBody(Body):
    """An effect to be added, by the name that a machine offers it under."""

    name: Annotated[str, Field(min_length=1, max_length=80), ShownName]


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


class EffectPath(RequestModel):
    """Which effect."""

    effect_id: int


class BuildPath(RequestModel):
    """Which build."""

    build_id: int


class SettingPath(RequestModel):
    """Which setting."""

    setting_id: int


class SettingBody(Body):
    """Named values of an effect's parameters."""

    id: int
    name: str
    archived: bool
    values: dict[str, float | int | str]


class NamedBuildBody(BuildBody):
    """A build, and whether a machine gives it its name: then it is neither renamed nor deleted here."""

    named_by_machine: bool


class EffectBody(Body):
    """An effect under test: what can be set, its builds oldest first, its settings."""

    id: int
    name: str
    archived: bool
    description: str
    parameters: list[dict[str, Any]]
    builds: list[NamedBuildBody]
    settings: list[SettingBody]


class EffectsBody(Body):
    """All effects by name."""

    effects: list[EffectBody]
