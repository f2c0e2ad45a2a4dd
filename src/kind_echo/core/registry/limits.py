"""Judging a reading by its limit."""

import re
from typing import Literal

from kind_echo.core.registry.errors import BadParameter
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import find_measure
from kind_echo.core.registry.numbers import parse_number
from kind_echo.core.registry.readings import Reading

Judgement = Literal["met", "broken", "unknown"]

_FORM = re.compile(r"\s*([a-z_0-9]+)\s*(<=|>=)\s*([-+−]?\d+(?:\.\d*)?(?:[eE][-+]?\d+)?|[-+−]?\.\d+)\s*")


def parse_limit(text: str) -> tuple[str, Limit]:
    """A limit as written on the command line, e.g. 'residual_rms<=-120'.

    Raises:
        BadParameter: the text is not MEASURE<=NUMBER or MEASURE>=NUMBER.
        UnknownMeasure: there is no such measure.
    """
    match = _FORM.fullmatch(text)
    if match is None:
        raise BadParameter("limit", repr(text), "of the form MEASURE<=NUMBER or MEASURE>=NUMBER")
    key, sign, number = match.groups()
    bound = parse_number(number)
    return find_measure(key).key, Limit(at_most=bound) if sign == "<=" else Limit(at_least=bound)


def judge(reading: Reading, limit: Limit) -> Judgement:
    """Whether a reading keeps its limit; "unknown" when it has no value and no bound that settles it."""
    if reading.value is None:
        low = limit.at_least is None or (reading.at_least is not None and reading.at_least >= limit.at_least)
        high = limit.at_most is None or (reading.at_most is not None and reading.at_most <= limit.at_most)
        bounded = reading.at_least is not None or reading.at_most is not None
        return "met" if bounded and low and high else "unknown"
    value = abs(reading.value) if reading.of.absolute else reading.value
    if limit.at_least is not None and value < limit.at_least:
        return "broken"
    if limit.at_most is not None and value > limit.at_most:
        return "broken"
    return "met"
