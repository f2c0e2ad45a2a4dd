"""Every measure of a plan by build: its worst reading of a run, and how far that stands from its limit."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.sheets.sheet import limits_in
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.registry.readings import Reading
from kind_echo.core.verdicts.rules import ink_of
from kind_echo.database.models import Cell, Run


@dataclass(frozen=True)
class Worst:
    """A measure in a run.

    Attributes:
        value: where it is held to a limit the reading that stands worst to it, else the greatest, the least of what
            is better for more, and of what has a sign the one farthest from zero.
        cell_id: which that is of.
        ink: how far it stands from its limit, as a sheet draws it; 0 without one.
        readings: how many cells have one.
        limited, broken: how many of those are held to a limit, and how many break it.
    """

    value: float
    cell_id: int
    ink: float
    readings: int
    limited: int
    broken: int


def worst_by_measure(session: Session, run: Run) -> Mapping[str, Worst]:
    """Of each measure that a run has the worst reading, by its key."""
    limits = limits_in(run)
    # Cells that share their limits are looked at together: how far a reading stands from a limit grows to either side
    # of it, so that the least and the greatest of them are all that can be worst.
    gathered: dict[tuple[int, str], list[tuple[float, int]]] = {}
    query = select(Cell.id, Cell.case_id, Cell.condition_id, Cell.measured).where(Cell.run_id == run.id, Cell.finished)
    for cell_id, case_id, condition_id, measured in session.execute(query):
        own = id(limits[case_id, condition_id])
        for key, value in measured.items():
            if value is not None:
                gathered.setdefault((own, key), []).append((value, cell_id))
    shared = {id(one): one for one in limits.values()}
    found: dict[str, Worst] = {}
    for (own, key), readings in gathered.items():
        measure = MEASURES.get(key)  # one of an extension that is no more is not shown
        if measure is not None and measure.drawing not in ("flag", "sign"):
            one = _worst(measure, readings, shared[own].get(key))
            found[key] = one if key not in found else _both(found[key], one, measure)
    return found


def _worst(measure: Measure, readings: Sequence[tuple[float, int]], limit: Limit | None) -> Worst:
    """The worst of readings that are held to one limit, or to none."""
    broken = 0
    if limit is not None:
        broken = sum(judge(Reading(measure.key, "all", value), limit) == "broken" for value, _ in readings)
    ends = []
    for value, cell_id in {min(readings), max(readings), min(readings, key=lambda one: abs(one[0]))}:
        reading = Reading(measure.key, "all", value)
        ink = 0.0 if limit is None else ink_of(reading, limit)
        breaks = limit is not None and judge(reading, limit) == "broken"
        ends.append((Worst(value, cell_id, ink, len(readings), len(readings) * (limit is not None), broken), breaks))
    return max(ends, key=lambda end: (end[1], end[0].ink, _badness(end[0].value, measure)))[0]


def _both(one: Worst, other: Worst, measure: Measure) -> Worst:
    """The worse of two: what is held to a limit tells more than what is not."""
    worse = max(one, other, key=lambda w: (w.limited > 0, w.broken > 0, w.ink, _badness(w.value, measure)))
    return replace(
        worse, readings=one.readings + other.readings, limited=one.limited + other.limited,
        broken=one.broken + other.broken,
    )  # fmt: skip


def _badness(value: float, measure: Measure) -> float:
    size = abs(value) if measure.signed or measure.absolute else value
    return -size if measure.better == "more" else size
