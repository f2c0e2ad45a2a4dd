"""Stimuli: the same request gives the same sound at any rate, at an exact level in a stated convention."""

from kind_echo.core.signals.making import played_frequency, synthesise, whole_seconds
from kind_echo.core.signals.request import (
    COLORS,
    DENSITIES,
    KINDS,
    LAWS,
    PIECES,
    PLACEMENTS,
    SignalKind,
    SignalRequest,
)

__all__ = [
    "COLORS",
    "DENSITIES",
    "KINDS",
    "LAWS",
    "PIECES",
    "PLACEMENTS",
    "SignalKind",
    "SignalRequest",
    "played_frequency",
    "synthesise",
    "whole_seconds",
]
