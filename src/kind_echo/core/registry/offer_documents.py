"""The shapes in which what a renderer has is kept as JSON, and sent by machines."""

from typing import NotRequired, TypedDict


class ParameterDocument(TypedDict):
    """What can be set of an effect: a number between bounds, or one of several words or numbers.

    `text`: an example of what the effect reads as a text. `stepped`: whole numbers alone. `bypass`: the value at which
    it passes on what it is given.
    """

    name: str
    default: NotRequired[float | str]
    unit: NotRequired[str]
    least: NotRequired[float]
    greatest: NotRequired[float]
    choices: NotRequired[list[float | str]]
    text: NotRequired[str]
    stepped: NotRequired[bool]
    bypass: NotRequired[float]


class HostDocument(TypedDict):
    """A host that a renderer has; `system` and `hosting` are missing where an early version wrote it down."""

    name: str
    version: str
    description: str
    modes: list[str]
    system: NotRequired[str]
    hosting: NotRequired[list[str]]


class EffectDocument(TypedDict):
    """An effect that a renderer has, with its builds, oldest first, and patterns of the names of others."""

    name: str
    handle: str
    description: str
    parameters: list[ParameterDocument]
    versions: list[str]
    patterns: NotRequired[list[str]]
    channels: NotRequired[list[int]]


class FailedDocument(TypedDict):
    """A file that a renderer cannot offer, and why."""

    file: str
    reason: str


class OfferDocument(TypedDict):
    """What a renderer on a machine has; `accepts`: it runs builds that were uploaded, too."""

    queue: str
    description: str
    hosts: list[HostDocument]
    effects: list[EffectDocument]
    failed: NotRequired[list[FailedDocument]]
    accepts: NotRequired[bool]
