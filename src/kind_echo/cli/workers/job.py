"""A job as the server hands it to a machine: builds to say something of, or a render to make."""

from typing import NotRequired, TypedDict

from kind_echo.renderers.contract import Values


class BuildAsked(TypedDict):
    """A build of which the machine is to say what it is made of."""

    effect: str
    handle: str
    version: str


class UploadedThere(TypedDict):
    """A build that was uploaded to the server."""

    sha256: str
    name: str


class RenderAsked(TypedDict):
    """A render to make; its signal and preset are fetched by themselves. An old server knows nothing of `hosting`."""

    effect: str
    handle: str
    version: str
    values: Values
    parts: list[Values]
    host: str
    host_version: str
    mode: str
    rate: int
    block_size: int
    channels: int
    frames: int
    takes: int
    word_length: str
    variation: str
    hosting: NotRequired[list[str]]
    preset: bool
    uploaded: UploadedThere | None


class Job(TypedDict):
    """A job; without a render, it asks about builds."""

    job_id: int
    renderer: str
    builds: list[BuildAsked]
    render: RenderAsked | None
