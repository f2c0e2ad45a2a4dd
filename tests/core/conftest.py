"""Signals that many tests of the core measure."""

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest

from kind_echo.core.audio.source import ArraySource
from kind_echo.core.registry.readings import Reading

Values = Callable[[list[Reading]], dict[str, float | None]]


def columns(*channels: Any, rate: int = 48_000) -> ArraySource:
    """A source with these channels."""
    return ArraySource(np.stack([np.asarray(c, dtype=float) for c in channels], axis=1), rate)


def overall(readings: list[Reading]) -> dict[str, Any]:
    """Values of "all" by measure."""
    return {r.measure: r.value for r in readings if r.channel == "all"}


def reading(readings: list[Reading], measure: str, channel: str = "all") -> Reading:
    return next(r for r in readings if r.measure == measure and r.channel == channel)


def sine(frequency: float, level: float, seconds: float, rate: int = 48_000, phase: float = 0.0) -> Any:
    """A sine whose peak stands at a level in dBFS."""
    angle = 2 * np.pi * np.mod(frequency * np.arange(round(seconds * rate)) / rate, 1.0) + phase
    return 10 ** (level / 20) * np.sin(angle)


def noise(frames: int, channels: int = 1, seed: int = 1, level: float = 0.1) -> Any:
    return np.random.default_rng(seed).standard_normal((frames, channels)) * level


@pytest.fixture(autouse=True)
def no_warning_reaches_a_user() -> Any:
    """Whatever numpy warns of is an error here."""
    with np.errstate(all="raise", under="ignore"):
        yield
