"""What a plan would notice, in words and in rows of tables."""

import math
from collections.abc import Sequence

from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.registry.numbers import number
from kind_echo.core.sensitivity.fault import Fault
from kind_echo.core.sensitivity.least import Least
from kind_echo.core.sensitivity.summary import Cell, Cover, Row
from kind_echo.wording.figures import counted

COLUMNS = ("case", "condition", "fault", "cause", "state", "size", "unit", "noticed_by")
"""Of a table with a line for each cell and fault."""

_STATES = {
    "passes": "passes", "no change": "passes: it changes nothing here", "not there": "cannot be here",
    "fails already": "the approved render fails by itself",
}  # fmt: skip


def size_text(fault: Fault, size: float) -> str:
    """A size with its unit: "0.02 dB", "3 samples"; a fault without sizes is there."""
    if not fault.has_size:
        return "noticed"
    if fault.is_level:
        return f"{number(size, '.1f')} {fault.unit}"
    if fault.is_count:
        return counted(int(size), "sample")
    places = max(0, 1 - math.floor(math.log10(size)))  # two digits that count
    return f"{number(size, f'.{places}f')} {fault.unit}"


def least_text(fault: Fault, least: Least | None) -> str:
    """What came of a fault in a cell, or over all of them: "0.02 dB", "passes"."""
    if least is None:
        return "passes"
    if least.state != "noticed" or least.size is None:
        return _STATES.get(least.state, least.state)
    return f"{size_text(fault, least.size)}{' or less' if least.at_most and not fault.is_count else ''}"


def row_text(row: Row) -> str:
    """The least size that any cell notices, or that none does: "0.02 dB", "passes", "in none of these cells"."""
    if row.least is None and row.states == {"not there"}:
        return "in none of these cells"
    if row.least is None and row.states == {"fails already"}:
        return "fails already"
    return least_text(row.fault, row.least)


def by_text(least: Least | None) -> str:
    """The measure by which a fault is noticed, as it is titled; empty where it is not."""
    if least is None or not least.by:
        return ""
    return MEASURES[least.by].title if least.by in MEASURES else least.by


INK_DECIBELS = 60.0
"""By so many over the size that is wanted, a fault fills its place in a table."""


def ink_of(row: Row, wanted: float | None) -> float:
    """How full a place in a table is: all of it where a fault passes, none where it is noticed as finely as wanted.

    None either where nothing can have it.
    """
    size = None if row.least is None else row.least.size
    if size is None:
        return float(row.states != {"not there"})
    if wanted is None or row.fault.as_fine(size, wanted):
        return 0.0
    return min(1.0, max(0.1, row.fault.excess(size, wanted) / INK_DECIBELS))


def row_sentence(row: Row, cells: int) -> str:
    """What a row says, in a sentence."""
    fault, passing = row.fault, len(row.passing)
    if row.least is None or row.least.size is None:
        states = row.states
        if states == {"not there"}:
            return f"{fault.title}: nothing in these cells can have it."
        if "no change" in states and "passes" not in states:
            return f"{fault.title}: passes everywhere, for it changes no sample."
        if "fails already" in states:
            return f"{fault.title}: the approved renders fail by themselves."
        return f"{fault.title}: passes everywhere{_up_to(fault, row)}."
    where = "" if passing == 0 else f"; {passing} of {counted(cells, 'cell')} do not notice it"
    return f"{fault.title}: noticed from {least_text(fault, row.least)} on{where}."


def _up_to(fault: Fault, row: Row) -> str:
    sizes = [cell.found[fault.key].size for cell in row.passing]
    tried = [size for size in sizes if size is not None]
    return f", up to {size_text(fault, max(tried))}" if fault.has_size and tried else ""


def summary_sentence(rows: Sequence[Row]) -> str:
    """One line for a run: what it would have noticed of gain, delay and noise, and how much it would not."""
    told = {row.fault.key: row for row in rows}
    known = [told[key] for key in ("gain", "delay", "noise") if key in told and told[key].least is not None]
    sizes = ", ".join(f"{least_text(row.fault, row.least)} of {row.fault.title.split(',')[0].lower()}" for row in known)
    missed = [row for row in rows if row.least is None and row.states & {"passes", "no change"}]
    blind = f"; it would have missed {', '.join(row.fault.title.lower() for row in missed)}" if missed else ""
    return f"It would have noticed {sizes or 'nothing that was planted'}{blind}."


def cover_sentence(cover: Cover) -> str:
    """What cases others stand in for."""
    if not cover.spare:
        return "Every case notices something that no other does."
    saved = f"{counted(round(cover.seconds_saved), 'second')} of sound"
    return (
        f"{counted(len(cover.kept), 'case')} notice as much as all {len(cover.kept) + len(cover.spare)}, in every "
        f"condition, by a greedy choice; without the others a run has {saved} less to render. Faults of an effect that "
        "only such a case provokes are not among those planted."
    )


def table_rows(cells: Sequence[Cell], faults: Sequence[Fault]) -> list[tuple[object, ...]]:
    """A line for each cell and fault, as `COLUMNS` name them."""
    return [
        (cell.case, cell.condition, fault.key, fault.cause, own.state, own.size, fault.unit, own.by)
        for cell in cells
        for fault in faults
        if (own := cell.found.get(fault.key)) is not None
    ]


def signals_sentence(titles: Sequence[str]) -> str:
    """Which test signals would close a gap; empty where none of those that were tried does."""
    if not titles:
        return ""
    return f"It shows in: {', '.join(title[0].lower() + title[1:] for title in titles)} (tried on the signal itself)."


def row_document(row: Row) -> dict[str, object]:
    """A row as JSON has it."""
    return {
        "fault": row.fault.key, "cause": row.fault.cause, "title": row.fault.title, "unit": row.fault.unit,
        "size": None if row.least is None else row.least.size,
        "at_most": row.least is not None and row.least.at_most,
        "noticed_by": "" if row.least is None else row.least.by,
        "where": None if row.where is None else {"case": row.where.case, "condition": row.where.condition},
        "passing": [{"case": cell.case, "condition": cell.condition} for cell in row.passing],
        "wanted": row.wanted, "is_met": row.is_met,
    }  # fmt: skip
