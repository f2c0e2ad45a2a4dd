"""Stimuli: the same request gives the same sound at any rate, at an exact level in a stated convention."""

from kind_echo.core.signals.making import synthesise, whole_seconds
from kind_echo.core.signals.parameter import Parameter
from kind_echo.core.signals.request import (
    OWN_FILE,
    SignalRequest,
    all_kinds,
    every_parameter,
    in_full,
    in_one_channel,
    make_request,
    without_defaults,
)

__all__ = [
    "OWN_FILE",
    "Parameter",
    "SignalRequest",
    "all_kinds",
    "every_parameter",
    "in_full",
    "in_one_channel",
    "make_request",
    "synthesise",
    "whole_seconds",
    "without_defaults",
]
