"""Every measure of a plan by build: its worst reading of a run, and how far that stands from its limit."""

from collections.abc import Mapping
from dataclasses import dataclass, replace

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.sheets.sheet import limits_in
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit, Measure
from kind_echo.core.registry.measures import find_measure
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
    found: dict[str, Worst] = {}
    query = select(Cell.id, Cell.case_id, Cell.condition_id, Cell.measured).where(Cell.run_id == run.id, Cell.finished)
    for cell_id, case_id, condition_id, measured in session.execute(query):
        own = limits[case_id, condition_id]
        for key, value in measured.items():
            if value is None or find_measure(key).drawing in ("flag", "sign"):
                continue
            found[key] = _worse(found.get(key), cell_id, key, value, own.get(key))
    return found


def _worse(before: Worst | None, cell_id: int, key: str, value: float, limit: Limit | None) -> Worst:
    """What is worst with one more reading."""
    ink, broken = 0.0, False
    if limit is not None:
        reading = Reading(key, "all", value)
        ink, broken = ink_of(reading, limit), judge(reading, limit) == "broken"
    one = Worst(value, cell_id, ink, 1, int(limit is not None), int(broken))
    if before is None:
        return one
    worst = max(before, one, key=lambda worst: _badness(worst, find_measure(key)))
    return replace(
        worst, readings=before.readings + 1, limited=before.limited + one.limited, broken=before.broken + one.broken
    )  # fmt: skip


def _badness(one: Worst, measure: Measure) -> tuple[bool, bool, float, float]:
    """A cell that is held to a limit tells more than one that is not."""
    value = abs(one.value) if measure.signed or measure.absolute else one.value
    return one.limited > 0, one.broken > 0, one.ink, -value if measure.better == "more" else value
