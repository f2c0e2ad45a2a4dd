"""Rates and conditions in words."""

from collections.abc import Sequence
from typing import Protocol

from kind_echo.core.registry.numbers import number


def rate_text(rate: float) -> str:
    """A sample rate, in Hz, as one says it: "44.1 kHz"."""
    return f"{rate / 1000:g} kHz"


def rates_text(rates: Sequence[float]) -> str:
    """Several sample rates, in Hz: "44.1 and 96 kHz"."""
    return f"{listed([f'{rate / 1000:g}' for rate in rates])} kHz"


def resampled_text(rates: Sequence[float], floor: float) -> str:
    """From which rates something was resampled, and what that leaves by itself, in decibels of a level."""
    return f"resampled from {rates_text(rates)}, which by itself leaves {number(floor, '.0f')} dB of a level"


class Condition(Protocol):
    """What is told of a condition, whatever keeps it."""

    @property
    def host(self) -> str:
        """Its name."""

    @property
    def host_version(self) -> str:
        """The version of that."""

    @property
    def mode(self) -> str:
        """Offline or real time."""

    @property
    def rate(self) -> int:
        """Sample rate, in Hz."""

    @property
    def hosting(self) -> str:
        """What the host does beside that; empty for nothing."""


def condition_text(condition: Condition) -> str:
    """A condition in a line: "Almanac 7, offline, 44.1 kHz"."""
    beside = f", {condition.hosting}" if condition.hosting else ""
    return f"{condition.host} {condition.host_version}, {condition.mode}{beside}, {rate_text(condition.rate)}"


class WholeCondition(Condition, Protocol):
    """A condition with all that sets it apart from others."""

    @property
    def block_size(self) -> int:
        """Frames."""

    @property
    def channels(self) -> int:
        """How many."""

    @property
    def word_length(self) -> str:
        """Of the files that are kept."""


def whole_condition_text(condition: WholeCondition) -> str:
    """A condition in a line that no other has: "Almanac 7, offline, 44.1 kHz, blocks of 512, 2 channels, float32"."""
    channels = "1 channel" if condition.channels == 1 else f"{condition.channels} channels"
    return f"{condition_text(condition)}, blocks of {condition.block_size}, {channels}, {condition.word_length}"


def listed(values: Sequence[str]) -> str:
    """Several things in a sentence: "a, b and c"."""
    return values[0] if len(values) == 1 else f"{', '.join(values[:-1])} and {values[-1]}"
