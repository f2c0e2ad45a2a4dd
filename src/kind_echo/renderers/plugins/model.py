"""What is common to plug-ins of every standard: what they say of themselves, and what a host does with one."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.registry.errors import KindEchoError

Block = NDArray[np.float32] | NDArray[np.float64]
"""Samples as plug-ins take them, shape (channels, frames)."""

Values = Mapping[str, Any]
"""Of parameters by name: a number, a text that the plug-in reads, or a course in time (see `motion`)."""


class HostFailed(KindEchoError):
    """A plug-in could not be loaded, set or run; the reason is told as it is."""


@dataclass(frozen=True)
class PluginParameter:
    """A parameter as the plug-in tells it.

    Attributes:
        key: what the standard knows it by: a number or a symbol, as text.
        name: unique within the plug-in.
        title: what a person reads, where that is something else.
        least, greatest, default: plain values.
        text: the default as the plug-in would show it; empty where it does not say.
        choices: texts that it takes, where it is no number.
        bypass: the value at which the plug-in passes on what it is given; None where this is no such parameter.
    """

    key: str
    name: str
    least: float
    greatest: float
    default: float
    stepped: bool
    text: str
    title: str = ""
    unit: str = ""
    choices: tuple[str, ...] = ()
    bypass: float | None = None


@dataclass(frozen=True)
class PluginAbout:
    """What a plug-in says of itself.

    Attributes:
        inputs, outputs: channels of each audio port.
        channels: how many it can be given at its first port, with as many coming out; empty where it cannot be run.
    """

    id: str
    name: str
    version: str
    features: tuple[str, ...]
    inputs: tuple[int, ...]
    outputs: tuple[int, ...]
    channels: tuple[int, ...]
    parameters: tuple[PluginParameter, ...]
    keeps_state: bool


@dataclass(frozen=True)
class Setup:
    """How a plug-in is to be run.

    Attributes:
        most: frames of the largest block.
        offline: it may take its time; else it is told that it runs in real time.
        double: it is given samples of 64 bits.
    """

    rate: int
    most: int
    channels: int
    offline: bool = True
    double: bool = False


@dataclass(frozen=True)
class Change:
    """A parameter takes a value at a frame of a block."""

    frame: int
    key: str
    value: float


class Instance(Protocol):
    """One instance of a plug-in within this process. Everything raises HostFailed where the plug-in refuses."""

    id: str
    exact: bool
    """Changes take place at their frame; else at the beginning of their block."""
    takes_off_latency: bool
    """What comes out is earlier by the latency, and so much shorter, because the host library does that."""
    wrote_input: bool | None
    """It has changed samples that it was only to read; None where that cannot be told."""

    def about(self) -> PluginAbout:
        """What it says of itself."""
        ...

    def read(self, parameter: PluginParameter, text: str) -> float | None:
        """The value that a text means; None where the plug-in does not know it."""
        ...

    def load_state(self, data: bytes) -> None:
        """Bring it to a state that was saved."""
        ...

    def save_state(self) -> bytes:
        """Its state as it would be kept."""
        ...

    def start(self, setup: Setup) -> None:
        """Make it ready to process."""
        ...

    def process(self, block: Block, changes: Sequence[Change]) -> Block:
        """What comes out of a block; the array may be used again by the next call."""
        ...

    def reset(self) -> None:
        """Forget all that was processed; parameters stay."""
        ...

    def latency(self) -> int:
        """Frames that it says it is late by; asked while it is started."""
        ...

    def tail(self) -> int | None:
        """Frames for which it says it rings on; None where it does not tell, or rings for ever."""
        ...

    def stop(self) -> None:
        """End processing."""
        ...


class Library(Protocol):
    """A file of plug-ins, loaded."""

    def ids(self) -> list[str]:
        """The identifiers of its plug-ins."""
        ...

    def open(self, plugin_id: str) -> Instance:
        """A new instance. Raises HostFailed."""
        ...


def open_named(library: Library, path: Path, plugin_id: str) -> Instance:
    """A plug-in by its identifier; where none is named, the only one. Raises HostFailed.

    One that is alone in its file is taken by whatever identifier: another standard knows it by another.
    """
    ids = library.ids()
    if len(ids) == 1 and plugin_id not in ids:
        plugin_id = ""
    if not plugin_id and len(ids) != 1:
        raise HostFailed(f"{path.name} holds {len(ids)} plug-ins; name one of {', '.join(ids)}")
    if plugin_id and plugin_id not in ids:
        raise HostFailed(f"{path.name} holds no plug-in {plugin_id}, but {', '.join(ids) or 'none'}")
    return library.open(plugin_id or ids[0])


def find_parameter(about: PluginAbout, name: str) -> PluginParameter:
    """A parameter by its name, or by its title where one alone has that. Raises HostFailed."""
    for parameter in about.parameters:
        if parameter.name == name:
            return parameter
    titled = [one for one in about.parameters if one.title == name]
    if len(titled) == 1:
        return titled[0]
    known = ", ".join(one.name for one in about.parameters) or "none"
    raise HostFailed(f"{about.id} has no parameter {name}, but {known}")


def plain_value(instance: Instance, parameter: PluginParameter, value: Any) -> float:
    """The number that a value of a parameter means, within its bounds. Raises HostFailed."""
    number = _number_of(instance, parameter, value)
    if not parameter.least <= number <= parameter.greatest:
        bounds = f"from {parameter.least:g} to {parameter.greatest:g}"
        raise HostFailed(f"{parameter.name} is {bounds}, and not {number:g}")
    return number


def _number_of(instance: Instance, parameter: PluginParameter, value: Any) -> float:
    if not isinstance(value, str):
        return float(value)
    if value in parameter.choices:
        return parameter.least + parameter.choices.index(value)
    number = instance.read(parameter, value)
    if number is not None:
        return number
    try:
        return float(value)
    except ValueError:
        raise HostFailed(f"{instance.id} does not know what {parameter.name} {value!r} is") from None


def distinct_names(names: Sequence[str], groups: Sequence[str]) -> list[str]:
    """Names, with their group before those that are there twice, and a number after those that still are."""
    grouped = [
        name if names.count(name) == 1 else f"{group}/{name}".strip("/")
        for name, group in zip(names, groups, strict=True)
    ]
    return [
        name if grouped.count(name) == 1 else f"{name} {grouped[: index + 1].count(name)}"
        for index, name in enumerate(grouped)
    ]


def channels_text(inputs: Sequence[int], outputs: Sequence[int]) -> str:
    """The channels of ports in words."""
    return f"{' and '.join(map(str, inputs)) or 'no'} channels in and {' and '.join(map(str, outputs)) or 'no'} out"
