"""The shape of what is asked and said of signals."""

import json
from typing import Annotated, Literal

from pydantic import BaseModel, Field, field_validator

from kind_echo.bench.signals import checked
from kind_echo.core.audio.source import LEAST_RATE
from kind_echo.core.signals import Stimulus, stimulus_of
from kind_echo.web.http.pair_schemas import LevelMapBody, ReadingBody, SpectrumBody, StripBody
from kind_echo.web.http.schemas import Body, FileName, RequestModel, ShownName

SignalValue = float | int | str | bool | None


class SignalParameterBody(Body):
    """What can be set of a signal: bounds for numbers, choices for words, neither for a switch."""

    key: str
    title: str
    unit: str
    least: float | None
    greatest: float | None
    choices: list[str]
    whole: bool
    default: SignalValue


class SignalKindBody(Body):
    """A kind of signal: what it is for, what its level means, and what to expect."""

    key: str
    title: str
    purpose: str
    level: str
    expect: str
    parameters: list[SignalParameterBody]


class SignalKindsBody(Body):
    """All kinds of signals, and what they can be written in."""

    kinds: list[SignalKindBody]
    rates: list[int]
    word_lengths: list[str]
    formats: list[str]


class SignalBody(Body):
    """A signal that is kept, and how many cases of plans use it."""

    id: int
    name: str
    request: dict[str, SignalValue]
    seconds: float
    used_by: int


class SignalsBody(Body):
    """All signals by name."""

    signals: list[SignalBody]


class NewSignalBody(Body):
    """A signal to keep."""

    name: Annotated[str, Field(min_length=1, max_length=80), ShownName]
    request: dict[str, SignalValue]


class OwnFileQuery(RequestModel):
    """The name of the file that the request carries, and what the signal is to be called."""

    file: Annotated[str, Field(min_length=1, max_length=255), FileName]
    name: Annotated[str, Field(min_length=1, max_length=80), ShownName]


class AliasBody(Body):
    """Where one harmonic lies above half the rate, and where it folds to, in Hz."""

    order: int
    frequency: float
    folded: float


class RateAliasesBody(Body):
    """The aliases to be looked for at a rate."""

    rate: int
    aliases: list[AliasBody]


class PreviewBody(Body):
    """A signal as it will be rendered at a rate."""

    rate: int
    channels: int
    frames: int
    played: float | None
    readings: list[ReadingBody]
    strip: StripBody
    spectrum: SpectrumBody
    level_map: LevelMapBody
    aliases: list[RateAliasesBody]


class _SignalQuery(BaseModel):
    """A request for a signal in a query: JSON."""

    request: str = Field(min_length=2, max_length=4000)
    rate: int = Field(ge=LEAST_RATE, le=768_000)

    @field_validator("request")
    @classmethod
    def _is_object(cls, text: str) -> str:
        if not isinstance(json.loads(text), dict):
            raise ValueError("it must be an object")
        return text

    @property
    def stimulus(self) -> Stimulus:
        """What is asked for. Raises BadParameter."""
        return stimulus_of(checked(json.loads(self.request)))


class PreviewQuery(_SignalQuery):
    """Which signal, at which rate, on how many columns."""

    columns: int = Field(default=900, ge=1, le=8192)


class SignalPartQuery(_SignalQuery):
    """Which signal, at which rate, and which minute of it, the first 0."""

    part: int = Field(default=0, ge=0, le=100_000)


class ExportQuery(_SignalQuery):
    """Which signal, and as which file."""

    name: Annotated[str, Field(min_length=1, max_length=80), FileName] = "signal"
    format: Literal["wav", "flac"] = "wav"
    word_length: Literal["16 bit", "24 bit", "32 bit float"] = "24 bit"
    dither: bool = True
