"""What a cell shows: the broken measures that stand for themselves, without those that follow from them."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from kind_echo.core.causes.cause import Cause, CauseName
from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.measures import MEASURES, find_measure
from kind_echo.core.verdicts.verdict import Ground, JudgedReading, Verdict, VerdictName

_EXPLAINED_DBFS = -100.0
"""A residual that delay, gain and the rest bring under it is explained by them: this product's choice."""

_EXPLAINED_DB = 40.0
"""Or one that they lower by so much: this product's choice."""

_TELLS_DB = 3.0
"""By which taking a cause off must lower the residual, for it to be one: half of its power."""


class Examined(NamedTuple):
    """A cell as findings see it.

    Attributes:
        verdict: as facts.
        finished: nothing of it is under way.
        rendered: there is a render, and it was judged.
        measured: readings by measure.
        limits: of the cell, by measure.
        causes: what explains its difference.
        factors: what it was rendered from and under, by factor.
        decided: no person need look at it.
    """

    id: int
    verdict: Verdict
    finished: bool
    rendered: bool
    measured: Mapping[str, float]
    causes: tuple[Cause, ...]
    limits: Mapping[str, Limit]
    factors: Mapping[str, str]
    decided: bool = False


@dataclass(frozen=True)
class Symptom:
    """One thing that a cell shows; those of one kind are equal whatever their amounts.

    Attributes:
        verdict: the verdict that it leads to.
        ground: what that rests on.
        measure: the key of what is broken or has no value; None where the verdict rests on no measure.
        other: what the render was compared with.
        why: what came of rendering it, where there is no render.
        found: the reading and its limit.
        amount: how far it is off, in the measure's unit, where that tells causes apart.
        cause: what alone explains the difference.
        orders: first and last order of a tone that this cause is of.
        is_new: whether nothing of them stands out of the reference.
        elsewhere: whether it does so in some cells of several, and in the others nothing is known that does.
    """

    verdict: VerdictName
    ground: Ground
    measure: str | None = None
    other: str = ""
    why: str = field(default="", compare=False)
    found: JudgedReading | None = field(default=None, compare=False)
    amount: float | None = field(default=None, compare=False)
    cause: CauseName | None = field(default=None, compare=False)
    orders: tuple[int, int] | None = field(default=None, compare=False)
    is_new: bool = field(default=False, compare=False)
    elsewhere: bool = field(default=False, compare=False)

    @property
    def rank(self) -> tuple[bool, bool, int, int]:
        """To sort by: what makes a render unfit, then what others follow from, then what follows."""
        if self.measure is None or self.measure not in MEASURES:
            return (True, True, 0, 0)
        measure = MEASURES[self.measure]
        return (not measure.unfit, not _leads(measure), _depth(measure), list(MEASURES).index(measure.key))


def symptoms_of(cell: Examined) -> list[Symptom]:
    """What a finished cell shows: one thing at least, and nothing for one that passes."""
    verdict = cell.verdict
    if verdict.name == "Pass" or not cell.finished:
        return []
    first = verdict.found[0] if verdict.found else None
    if verdict.ground == "limit broken" and verdict.found:
        alone = [found for found in verdict.found if not _follows(cell, found.reading.measure)]
        return [_broken(cell, found) for found in alone]
    measure = first.reading.measure if first is not None and verdict.name != "Changed" else None
    return [Symptom(verdict.name, verdict.ground, measure, verdict.other, verdict.why, first)]


def together(symptoms: Sequence[Symptom]) -> Symptom:
    """One symptom of several cells: with its cause where that is the same in all of them that have one."""
    known = {symptom.cause for symptom in symptoms if symptom.cause != "unexplained"}
    first = symptoms[0]
    if len(known) != 1:
        return replace(first, cause=None)
    told = [symptom for symptom in symptoms if symptom.cause != "unexplained"]
    orders = [symptom.orders for symptom in told if symptom.orders is not None]
    return replace(
        told[0],
        elsewhere=told[0].cause is not None and any(symptom.cause == "unexplained" for symptom in symptoms),
        orders=(min(first for first, _ in orders), max(last for _, last in orders)) if orders else None,
        is_new=all(symptom.is_new for symptom in told),
    )


def judged_for(cell: Examined, symptom: Symptom) -> bool:
    """Whether a cell that does not show a symptom speaks against it being there."""
    verdict = cell.verdict
    if not cell.finished:
        return False
    if symptom.ground == "unfit":
        return cell.rendered and not verdict.unfit
    if symptom.ground == "not rendered":
        return cell.rendered
    if not cell.rendered or verdict.unfit:
        return False
    if symptom.verdict != "Fail" or symptom.measure is None:
        return verdict.name in ("Pass", symptom.verdict)
    if symptom.measure not in cell.limits or verdict.name in ("No reading", "Waiting", "Changed"):
        return False
    if symptom.measure not in cell.measured and cell.measured.get("identical") != 1.0:
        return False
    return symptom.measure not in verdict.broken or not _follows(cell, symptom.measure)


def _broken(cell: Examined, found: JudgedReading) -> Symptom:
    """The symptom of a broken measure; what was rendered against something else is another where its name says so."""
    measure = found.reading.of
    value = found.reading.value or 0.0
    amount: float | None = None
    if measure.apart is not None:
        amount = value if measure.undone is not None else _off(cell, measure.key)
        if measure.repeats is not None and measure.repeats[0] in cell.verdict.broken:
            amount -= _off(cell, measure.repeats[0])
    alone = cell.causes[0] if measure.is_difference and len(cell.causes) == 1 else None
    return Symptom(
        "Fail", "limit broken", measure.key, cell.verdict.other if measure.is_difference else "", found=found,
        amount=amount, cause=None if alone is None else alone.cause, orders=None if alone is None else alone.orders,
        is_new=alone is not None and alone.is_new,
    )  # fmt: skip


def _follows(cell: Examined, key: str) -> bool:
    """Whether a broken measure is what another broken measure of the cell leads to."""
    broken, measure = cell.verdict.broken, find_measure(key)
    if any(other in broken for other in measure.follows):
        return True
    if measure.is_difference:
        causes = [other for other in _undoable(cell) if _tells(cell, other)]
        raw, rest = cell.measured.get("account_raw"), cell.measured.get("account_fraction")
        explained = rest is None or rest <= _EXPLAINED_DBFS or (raw is not None and raw - rest >= _EXPLAINED_DB)
        return bool(causes) and explained
    if measure.undone is not None and any(find_measure(other).is_difference for other in broken):
        return not _tells(cell, measure)
    if measure.repeats is not None and measure.repeats[0] in broken:
        other, within = measure.repeats
        return abs(_off(cell, key) - _off(cell, other)) < within
    return False


def _undoable(cell: Examined) -> list[Measure]:
    """Broken measures whose doing can be taken off a residual, in the order in which it is."""
    return [measure for measure in MEASURES.values() if measure.undone and measure.key in cell.verdict.broken]


def _tells(cell: Examined, cause: Measure) -> bool:
    """Whether taking a delay, polarity or gain off explains a part of the difference."""
    undoable = [measure for measure in MEASURES.values() if measure.undone]
    steps = ["account_raw", *(str(measure.undone) for measure in undoable)]
    place = undoable.index(cause)
    following = undoable[place + 1] if place + 1 < len(undoable) else None
    if following is not None and following.drawing == "sign" and following.key in cell.verdict.broken:
        # Off an inverted render what comes before lowers nothing by itself.
        before, after = cell.measured.get(steps[place]), cell.measured.get(steps[place + 2])
    else:
        before, after = cell.measured.get(steps[place]), cell.measured.get(steps[place + 1])
    return before is not None and (after is None or before - after >= _TELLS_DB)


def _off(cell: Examined, key: str) -> float:
    """How far a reading lies from the middle of its limits."""
    limit = cell.limits.get(key, Limit())
    bounds = [bound for bound in (limit.at_least, limit.at_most) if bound is not None]
    return cell.measured.get(key, 0.0) - (sum(bounds) / len(bounds) if bounds else 0.0)


def _leads(measure: Measure) -> bool:
    return measure.undone is not None or any(measure.key in other.follows for other in MEASURES.values())


def _depth(measure: Measure) -> int:
    """How many steps lie between a measure and what it follows from."""
    return max((1 + _depth(find_measure(key)) for key in measure.follows), default=0)
