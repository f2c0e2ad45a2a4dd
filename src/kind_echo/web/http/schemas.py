"""What all shapes of requests and responses stand on, and those that many share; the OpenAPI document follows them."""

from copy import deepcopy
from functools import cache
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from kind_echo.core.registry.documents import LimitDocument
from kind_echo.core.registry.measure import Better, Drawing
from kind_echo.core.registry.names import check_name, check_title, file_name

ShownName = AfterValidator(check_name)
"""A name that is shown: without characters that are not seen, and without a slash."""

ShownTitle = AfterValidator(check_title)
"""The same of what is never part of an address or the name of a file: a slash may stand in it."""

FileName = AfterValidator(file_name)
"""The name of a file that came, without its folders and what is not seen."""


class RequestModel(BaseModel):
    """Base of what is asked for by a path or a query, and of bodies: its JSON schema is made once.

    The framework wants the schema of a query with each request, and making it took a fifth of an answer's time.
    """

    @classmethod
    def model_json_schema(cls, *args: Any, **options: Any) -> dict[str, Any]:
        """As pydantic makes it; a copy, for who asks may change it."""
        if args or "schema_generator" in options:
            return super().model_json_schema(*args, **options)
        return deepcopy(_schema_of(cls, tuple(sorted(options.items()))))

    @classmethod
    def made_schema(cls, **options: Any) -> dict[str, Any]:
        """The schema, made anew."""
        return super().model_json_schema(**options)


@cache
def _schema_of(model: type[RequestModel], options: tuple[tuple[str, Any], ...]) -> dict[str, Any]:
    return model.made_schema(**dict(options))


class Body(RequestModel):
    """Base of all bodies: unknown fields are refused."""

    model_config = ConfigDict(extra="forbid", from_attributes=True, allow_inf_nan=False)


class ProblemBody(BaseModel):
    """An error, as RFC 9457 has it: `detail` is a sentence a person can act on."""

    type: str
    title: str
    status: int
    detail: str


class LimitBody(Body):
    """The bounds of a measure; null where there is none."""

    at_least: float | None = None
    at_most: float | None = None

    @property
    def document(self) -> LimitDocument:
        """As it is kept."""
        return {"at_least": self.at_least, "at_most": self.at_most}


class MeasureBody(Body):
    """One measure of the registry."""

    key: str
    title: str
    unit: str
    definition: str
    source: str
    family: str
    decimals: int
    drawing: Drawing
    signed: bool
    better: Better
    limit: LimitBody | None


class MeasuresBody(Body):
    """The registry of measures."""

    measures: list[MeasureBody]


class BuildBody(Body):
    """A build of an effect; one that is archived stands in no list to choose from."""

    id: int
    version: str
    note: str
    archived: bool


class ChangeThingBody(Body):
    """What is to change of something that is under test; null leaves it as it is."""

    name: Annotated[str, Field(min_length=1, max_length=120), ShownName] | None = None
    archived: bool | None = None


class ConditionBody(Body):
    """A column of the sheet."""

    id: int
    host: str
    host_version: str
    mode: str
    rate: int
    block_size: int
    channels: int
    word_length: str
    hosting: str


class EffectPath(RequestModel):
    """Which effect."""

    effect_id: int


class BuildPath(RequestModel):
    """Which build."""

    build_id: int
