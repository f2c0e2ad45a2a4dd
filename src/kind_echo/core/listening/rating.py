"""Ratings of a listening test: means with confidence intervals, and listeners screened by the standards' rules."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from kind_echo.core.registry.errors import BadParameter

Scale = Literal["BS.1116", "BS.1534"]

LIMITS: Mapping[Scale, tuple[float, float]] = {"BS.1116": (1.0, 5.0), "BS.1534": (0.0, 100.0)}
"""Lowest and highest grade: the five-grade impairment scale, and the continuous quality scale."""

_KNOWN_REFERENCE_GRADE = 90.0  # BS.1534: a hidden reference graded below, in more than 15 % of the trials, or …
_KNOWN_ANCHOR_GRADE = 90.0  # … a mid anchor graded above, in more than 15 %, takes a listener out
_OFTEN_SHARE = 0.15
_SURE_PROBABILITY = 0.95


@dataclass(frozen=True)
class Grades:
    """What one listener gave in one trial, by side; `reference` and `anchor` name the hidden ones."""

    listener: str
    grades: Mapping[str, float]


@dataclass(frozen=True)
class Mean:
    """Mean grade of a side over the listeners that count, with its confidence interval at 95 %.

    Attributes:
        low, high: bounds by Student's distribution; None for fewer than two grades.
        count: grades that it is the mean of.
    """

    side: str
    mean: float
    low: float | None
    high: float | None
    count: int


@dataclass(frozen=True)
class Screened:
    """Who was left out of the means, and by which rule."""

    listener: str
    why: str


def check_grade(scale: Scale, grade: float) -> None:
    """Raises BadParameter for what lies outside the scale."""
    low, high = LIMITS[scale]
    if not low <= grade <= high:
        raise BadParameter("grade", grade, f"from {low:g} to {high:g}")


def screen(scale: Scale, given: Sequence[Grades], reference: str, anchor: str | None = None) -> list[Screened]:
    """Listeners whose grades do not count.

    BS.1534-3, 4.1.2: who grades the hidden reference under 90 in more than 15 % of the trials, or the mid anchor over
    90 in more than 15 %. BS.1116-3, post-screening: whose difference grades (side less hidden reference) do not lie
    below 0 by a one-sided t-test at 5 %, for then the reference was not told from the sides. Both from memory.

    Args:
        anchor: the mid anchor, of BS.1534.
    """
    found = []
    for listener in dict.fromkeys(one.listener for one in given):
        own = [one.grades for one in given if one.listener == listener]
        why = _why_not(own, reference, anchor) if scale == "BS.1534" else _not_told(own, reference)
        if why:
            found.append(Screened(listener, why))
    return found


def means(given: Sequence[Grades], without: Sequence[Screened] = ()) -> list[Mean]:
    """The mean of each side, highest first, over the listeners that are not screened out.

    Source: ITU-R BS.1534-3 and BS.1116-3: confidence intervals at 95 % by Student's t distribution.
    """
    out = {one.listener for one in without}
    sides: dict[str, list[float]] = {}
    for one in given:
        if one.listener not in out:
            for side, grade in one.grades.items():
                sides.setdefault(side, []).append(grade)
    found = [_mean(side, grades) for side, grades in sides.items()]
    return sorted(found, key=lambda one: -one.mean)


def _mean(side: str, grades: Sequence[float]) -> Mean:
    from scipy.stats import t  # slow to load, and few ask

    count, mean = len(grades), math.fsum(grades) / len(grades)
    if count < 2:
        return Mean(side, mean, None, None, count)
    deviation = math.sqrt(math.fsum((grade - mean) ** 2 for grade in grades) / (count - 1))
    reach = float(t.ppf((1 + _SURE_PROBABILITY) / 2, count - 1)) * deviation / math.sqrt(count)
    return Mean(side, mean, mean - reach, mean + reach, count)


def _why_not(own: Sequence[Mapping[str, float]], reference: str, anchor: str | None) -> str:
    low = sum(grades[reference] < _KNOWN_REFERENCE_GRADE for grades in own if reference in grades)
    if low > _OFTEN_SHARE * len(own):
        return f"the hidden reference was graded below 90 in {low} of {len(own)} trials (BS.1534-3)"
    high = sum(grades[anchor] > _KNOWN_ANCHOR_GRADE for grades in own if anchor in grades) if anchor else 0
    if high > _OFTEN_SHARE * len(own):
        return f"the mid anchor was graded above 90 in {high} of {len(own)} trials (BS.1534-3)"
    return ""


def _not_told(own: Sequence[Mapping[str, float]], reference: str) -> str:
    from scipy.stats import ttest_1samp

    differences = [grade - grades[reference] for grades in own for side, grade in grades.items() if side != reference]
    if len(differences) < 2:
        return "one grade alone cannot show that the reference was told from the sides (BS.1116-3)"
    if len(set(differences)) == 1:
        return "" if differences[0] < 0.0 else "the hidden reference was not graded above the sides (BS.1116-3)"
    chance = float(ttest_1samp(differences, 0.0, alternative="less").pvalue)
    return (
        ""
        if chance <= 1 - _SURE_PROBABILITY
        else f"the hidden reference was not told from the sides, p = {chance:.2f} (BS.1116-3)"
    )
