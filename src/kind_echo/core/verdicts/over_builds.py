"""Changes of a figure from build to build: which steps are greater than those that it makes anyway."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from statistics import median

OF_USUAL = 6.0
"""Times the usual step that a step must be greater than.

The usual step is a median of sizes: of figures that scatter by a normal law 0.95 of their deviation. Simulated, a step
of such figures is marked once in a hundred with nine builds and once in a thousand with thirty; one of fifteen
deviations is found in 99 of a hundred.
"""

ENOUGH = 7
"""Other steps of a line from which its usual step is told; else what sets lines apart from each other tells."""

LEAST = 3
"""Lines that move together, from which it is told by how much they move apart."""


@dataclass(frozen=True)
class Value:
    """What a build has: a figure, or none, as of a difference where the two sides are the same."""

    value: float | None


@dataclass(frozen=True)
class Step:
    """From one build to the next that has one.

    Attributes:
        before, place: of the two builds in the line.
        by: how far the figure moved; None where it appeared or vanished.
    """

    before: int
    place: int
    by: float | None


Line = Sequence[Value | None]
"""What each build has, in order; None where it was not run."""


def changes(lines: Sequence[Line], resolution: float, *, repeats: bool = True) -> list[list[Step]]:
    """The steps of each line that are changes.

    A step is one where a figure appears or vanishes, or where it moves by more than it is told to and by more than six
    times the usual step. What is usual is the median of the line's other steps. Of a short line it is how far the steps
    of all lines at one build lie from the step that is in their middle: what moves them all together is no scatter.

    Args:
        lines: of one case, one a condition.
        resolution: of the figure, in its unit: the least that it is told to.
        repeats: whether the same build gives the same figure; else nothing is marked while nothing usual is known.
    """
    steps = [_steps(line) for line in lines]
    short = any(step.by is not None for own in steps if len(own) <= ENOUGH for step in own)
    scatter = _scatter(steps) if short else None
    return [[step for step in own if _is_change(step, own, scatter, resolution, repeats)] for own in steps]


def _steps(line: Line) -> list[Step]:
    there = [(place, one.value) for place, one in enumerate(line) if one is not None]
    return [
        Step(before, place, None if a is None or b is None else b - a)
        for (before, a), (place, b) in pairwise(there)
        if a is not None or b is not None
    ]


def _is_change(step: Step, own: Sequence[Step], scatter: float | None, resolution: float, repeats: bool) -> bool:
    if step.by is None:
        return True
    others = [abs(one.by) for one in own if one is not step and one.by is not None]
    usual = median(others) if len(others) >= ENOUGH else scatter
    if usual is None:
        return repeats and abs(step.by) > resolution
    return abs(step.by) > max(resolution, OF_USUAL * usual)


def _scatter(every: Sequence[Sequence[Step]]) -> float | None:
    """How far apart lines move that move together; None where too few do to tell."""
    at: dict[int, list[float]] = {}
    for own in every:
        for step in own:
            if step.by is not None:
                at.setdefault(step.place, []).append(step.by)
    apart: list[float] = []
    for moved in at.values():
        if len(moved) >= LEAST:
            middle = median(moved)
            apart += [abs(by - middle) for by in moved]
    return median(apart) if apart else None
