"""Numbers as they are given on the command line: finite, and in the range that the computation bears."""

import math
from typing import Any

import click

_MOST = 1e9


class Number(click.ParamType[float]):
    """A finite number within bounds, both included."""

    name = "number"

    def __init__(self, least: float = -_MOST, greatest: float = _MOST) -> None:
        self.least, self.greatest = least, greatest

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """The number; fails with the range for all else, infinity and what is no number among it."""
        try:
            number = float(value)
        except ValueError:
            number = math.nan
        if not self.least <= number <= self.greatest:
            self.fail(f"{value!r} is not a number from {self.least:g} to {self.greatest:g}.", param, ctx)
        return number


NUMBER = Number()
DECIBELS = Number(-400.0, 400.0)
"""More than any signal spans, and few enough that the factor can be squared."""
