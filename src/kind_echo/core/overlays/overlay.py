"""Lines of one kind over each other: which is the reference, and how far each of the others lies from it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from kind_echo.core.overlays.kinds import Kind

Floats = NDArray[np.float64]

MOST_TOGETHER = 8
"""Lines that one picture tells apart: more stand beside each other, in one scale."""

_NEAR = 1e-3  # of a place on the axis, or of one: two that are nearer are the same step


@dataclass(frozen=True)
class Line:
    """A curve with a name; its places rise.

    Attributes:
        x, y: shape (points,), in the units of the kind; of a difference NaN where there is nothing to look at.
        low: of a waveform the least sample in each place, and `y` the greatest; else None.
    """

    label: str
    x: Floats
    y: Floats
    low: Floats | None = None


@dataclass(frozen=True)
class Overlay:
    """Lines of one kind.

    Attributes:
        reference: place of the line that the others are held against; None without one.
        differences: of each line how far it lies above the reference, in its places; None of the reference itself,
            where nothing is held against it, and where the two have no place in common.
        law: what was expected, where that is known.
        over_time: the lines follow each other, oldest first.
    """

    kind: Kind
    lines: tuple[Line, ...]
    reference: int | None
    differences: tuple[Line | None, ...]
    law: Line | None = None
    over_time: bool = False

    @property
    def together(self) -> bool:
        """Whether the lines can be told apart in one picture; else each has one of its own.

        Of lines that follow each other any number can: how they move from the oldest to the newest is what they tell.
        """
        return (self.over_time or len(self.lines) <= MOST_TOGETHER) and self.kind.key != "waveform"

    def farthest(self) -> tuple[int, float, float] | None:
        """The line that lies farthest from the reference, where, and by how much; None without a difference."""
        found: tuple[int, float, float] | None = None
        for i, line in enumerate(self.differences):
            if line is None or len(line.y) == 0:
                continue
            place = int(np.nanargmax(np.abs(line.y)))
            if found is None or abs(line.y[place]) > abs(found[2]):
                found = i, float(line.x[place]), float(line.y[place])
        return found


def lay_over(
    kind: Kind, lines: Sequence[Line], reference: int | None, law: Line | None = None, *, over_time: bool = False
) -> Overlay:
    """Lines over each other, each with its difference to the reference; arguments as the attributes of `Overlay`."""
    shown = tuple(lines)
    differences = tuple(
        None
        if reference is None or i == reference or not kind.has_differences
        else difference(kind, line, shown[reference])
        for i, line in enumerate(shown)
    )
    return Overlay(kind, shown, reference, differences, law, over_time)


def difference(kind: Kind, line: Line, reference: Line) -> Line | None:
    """By how much a line lies above the reference, at the reference's places; None where they have none in common.

    Between the points of a line values are taken linearly, over the logarithm of a frequency; of steps only those that
    both have count. Beyond the ends of either there is nothing, nor is there where both are under what is looked at.
    """
    if len(line.x) == 0 or len(reference.x) == 0:
        return None
    if kind.join == "steps":
        at = np.abs(line.x[np.newaxis] - reference.x[:, np.newaxis]).argmin(axis=1)
        same = np.isclose(line.x[at], reference.x, rtol=_NEAR, atol=_NEAR)
        if not same.any():
            return None
        return _above(kind, line, reference, same, line.y[at[same]])
    inside = (reference.x >= line.x[0]) & (reference.x <= line.x[-1])
    if not inside.any():
        return None
    places, own = reference.x[inside], line.x
    if kind.x_unit == "Hz":
        places, own = np.log(places), np.log(own)
    values = np.interp(places, own, line.y)
    return _above(kind, line, reference, inside, values)


def _above(kind: Kind, line: Line, reference: Line, places: NDArray[np.bool_], values: Floats) -> Line | None:
    own = reference.y[places]
    by = values - own
    if kind.least is not None:
        by[np.maximum(values, own) < kind.least] = np.nan
    return None if np.isnan(by).all() else Line(line.label, reference.x[places], by)
