"""Stimuli: the same request gives the same sound at any rate, at an exact level in a stated convention."""

from kind_echo.core.signals.making import synthesise, whole_seconds
from kind_echo.core.signals.parameter import Parameter
from kind_echo.core.signals.request import (
    OWN_FILE,
    OwnFile,
    SignalDocument,
    SignalRequest,
    Stimulus,
    all_kinds,
    every_parameter,
    in_full,
    make_request,
    stimulus_of,
    without_defaults,
)

__all__ = [
    "OWN_FILE",
    "OwnFile",
    "Parameter",
    "SignalDocument",
    "SignalRequest",
    "Stimulus",
    "all_kinds",
    "every_parameter",
    "in_full",
    "make_request",
    "stimulus_of",
    "synthesise",
    "whole_seconds",
    "without_defaults",
]
