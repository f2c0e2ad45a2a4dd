"""What a simulated effect is: parameters, builds, and something that has been loaded and processes blocks."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from kind_echo.core.audio.source import Samples
from kind_echo.core.registry.errors import BadParameter, KindEchoError

Values = dict[str, float | int | str]


class NoSuchBuild(KindEchoError):
    """A build of a stand-in is asked for that does not exist."""

    def __init__(self, effect: str, version: str) -> None:
        self.effect, self.version = effect, version
        super().__init__(f"The stand-in {effect} has no build {version}.")


class NoSuchEffect(KindEchoError):
    """A stand-in effect is asked for that does not exist."""

    def __init__(self, effect: str) -> None:
        self.effect = effect
        super().__init__(f"There is no stand-in effect named {effect}.")


class Effect(Protocol):
    """An effect that has been loaded: its state lives until it is thrown away.

    Attributes:
        claimed_latency: frames by which it says that it delays.
    """

    claimed_latency: int

    def process(self, block: Samples) -> Samples:
        """The next frames in, as many out."""
        ...


@dataclass(frozen=True)
class Parameter:
    """What can be set: a number between bounds, or one of several words or numbers.

    Attributes:
        default: what holds where a setting does not name it.
    """

    name: str
    default: float | int | str
    unit: str = ""
    least: float = 0.0
    greatest: float = 0.0
    choices: tuple[float | int | str, ...] = ()

    def check(self, value: float | int | str) -> None:
        """Raises BadParameter for a value that cannot be set."""
        if self.choices:
            if value not in self.choices:
                *others, last = (str(choice) for choice in self.choices)
                raise BadParameter(self.name, value, f"{', '.join(others)} or {last}")
        elif not isinstance(value, int | float) or not self.least <= value <= self.greatest:
            raise BadParameter(self.name, value, f"a number from {self.least:g} to {self.greatest:g}")


@dataclass(frozen=True)
class Place:
    """Where an effect has been loaded."""

    values: Values
    rate: int
    channels: int


class Fault(Protocol):
    """Something that a build does wrong, laid around an effect that does it right."""

    def wrap(self, effect: Effect, place: Place) -> Effect:
        """The effect with the fault; the effect itself where the fault does not show."""
        ...


@dataclass(frozen=True)
class Build:
    """A version of a stand-in.

    Attributes:
        departs: arguments of the effect's own making by which this build departs from what is meant.
    """

    version: str
    note: str
    faults: tuple[Fault, ...] = ()
    departs: Mapping[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class StandIn:
    """A simulated effect with its builds, oldest first."""

    name: str
    description: str
    parameters: tuple[Parameter, ...]
    builds: tuple[Build, ...]
    make: Callable[..., Effect]

    def load(self, version: str, values: Values, rate: int, channels: int) -> Effect:
        """A build of it, set and ready to process.

        Raises:
            NoSuchBuild: there is no such version.
            BadParameter: a value is not among those that can be set, or has no parameter.
        """
        build = next((one for one in self.builds if one.version == version), None)
        if build is None:
            raise NoSuchBuild(self.name, version)
        known = {parameter.name: parameter for parameter in self.parameters}
        defaults: Values = {name: parameter.default for name, parameter in known.items()} | dict(
            build.departs.get("defaults", {})
        )
        for name, value in values.items():
            if name not in known:
                raise BadParameter(name, value, f"one of the parameters of {self.name}: {', '.join(known)}")
            known[name].check(value)
        place = Place(defaults | values, rate, channels)
        departs = {key: value for key, value in build.departs.items() if key != "defaults"}
        effect: Effect = self.make(place, **departs)
        for fault in build.faults:
            effect = fault.wrap(effect, place)
        return effect


def linear(decibels: float | int | str) -> float:
    """A factor for a number of decibels."""
    return float(10.0 ** (float(decibels) / 20.0))
