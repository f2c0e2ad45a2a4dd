"""The registry of measures, and limits."""

import math

import pytest

from kind_echo.core.registry.errors import UnknownMeasure
from kind_echo.core.registry.limits import judge, parse_limit
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES, find_measure
from kind_echo.core.registry.readings import Reading


def test_every_measure_is_declared_once_and_whole() -> None:
    for key, measure in MEASURES.items():
        assert key == measure.key
        assert measure.title
        assert measure.definition.rstrip().endswith((".", "**")), key
        assert measure.source
    with pytest.raises(UnknownMeasure, match="nonsense"):
        find_measure("nonsense")


def test_limits_are_read_and_judged() -> None:
    assert parse_limit("residual_rms<=-120") == ("residual_rms", Limit(at_most=-120))
    assert judge(Reading("rms", "all", -10.0), Limit(at_most=-20)) == "broken"
    assert judge(Reading("dc_offset", "all", -0.01), Limit(at_most=0.001)) == "broken"
    assert judge(Reading("rms", "all", None, "digital silence", at_most=-math.inf), Limit(at_most=-300)) == "met"
    assert judge(Reading("alias_worst_level", "all", None, "none", at_most=-133.0), Limit(at_most=-96)) == "met"
    assert judge(Reading("alias_worst_level", "all", None, "none", at_most=-90.0), Limit(at_most=-96)) == "unknown"
