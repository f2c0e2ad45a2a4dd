"""Tables of a run: a row a cell, with all measures, and a row a reading."""

import math
from collections.abc import Iterator, Mapping
from datetime import date

from sqlalchemy import Select, select
from sqlalchemy.orm import Session, joinedload

from kind_echo.bench.decisions import Standing, limits_of, standings
from kind_echo.bench.documents import reading_from
from kind_echo.bench.tables.table import Row, Table
from kind_echo.core.registry.limits import judge
from kind_echo.core.registry.measure import Limit
from kind_echo.core.registry.measures import MEASURES
from kind_echo.core.registry.readings import Reading
from kind_echo.database.models import Case, Cell, Condition, Run

_PLACE = (
    "cell", "signal", "setting", "host", "host_version", "mode", "rate", "block_size", "channels", "word_length",
    "hosting",
)  # fmt: skip
_STANDS = ("state", "verdict", "why", "decision", "decided_by", "decided_until", "ticket")
_READING = (
    "measure", "channel", "value", "unit", "uncertainty", "no_more_than", "note", "at_least", "at_most", "judgement",
)  # fmt: skip
_CELLS = 50  # whose readings are held at once


def cells_table(session: Session, run: Run, today: date) -> Table:
    """A row a cell: where it stands, its verdict and the decision that holds, and the value of each of its measures."""
    cells = list(session.scalars(_cells_of(run)))
    known = {key for cell in cells for key in cell.measured}
    measures = tuple(key for key in MEASURES if key in known)
    decided = standings(session, run, today)
    rows = (
        (*_place(cell), *_stands(cell, decided.get(cell.id)), *(_value(cell.measured.get(key)) for key in measures))
        for cell in cells
    )
    return Table("cells", (*_PLACE, *_STANDS, *measures), rows)


def readings_table(session: Session, run: Run) -> Table:
    """A row a reading: of each cell what the render is by itself, and what it is beside its reference."""
    return Table("readings", (*_PLACE, *_READING), _reading_rows(session, run))


def _reading_rows(session: Session, run: Run) -> Iterator[Row]:
    query = _cells_of(run).options(joinedload(Cell.analysis), joinedload(Cell.render))
    query = query.execution_options(yield_per=_CELLS)
    for cell in session.scalars(query):
        place, limits = _place(cell), limits_of(cell)
        beside = cell.analysis.readings if cell.analysis is not None else []
        known = {document["measure"] for document in beside}
        own = [one for one in (cell.render.readings if cell.render is not None else []) if one["measure"] not in known]
        for document in (*own, *beside):
            yield (*place, *_reading(reading_from(document), limits))


def _cells_of(run: Run) -> Select[Cell]:
    return (
        select(Cell)
        .where(Cell.run_id == run.id)
        .options(
            joinedload(Cell.condition),
            joinedload(Cell.case).options(joinedload(Case.signal), joinedload(Case.setting)),
        )
        .order_by(Cell.id)
    )


def _place(cell: Cell) -> Row:
    condition: Condition = cell.condition
    return (
        cell.id, cell.case.signal.name, cell.case.setting.name, condition.host, condition.host_version, condition.mode,
        condition.rate, condition.block_size, condition.channels, condition.word_length, condition.hosting,
    )  # fmt: skip


def _stands(cell: Cell, decision: Standing | None) -> Row:
    told: Row = (None, None, None, None)
    if decision is not None and decision.holds:
        until = None if decision.until is None else decision.until.isoformat()
        told = decision.kind, decision.who, until, decision.ticket or None
    return cell.state, cell.verdict, cell.why, *told


def _reading(reading: Reading, limits: Mapping[str, Limit]) -> Row:
    limit = limits.get(reading.measure) if reading.channel == "all" else None
    bound = reading.at_most if reading.at_most is not None and math.isfinite(reading.at_most) else None
    return (
        reading.measure, reading.channel, _value(reading.value), reading.unit, reading.uncertainty, bound, reading.why,
        None if limit is None else limit.at_least, None if limit is None else limit.at_most,
        None if limit is None else judge(reading, limit),
    )  # fmt: skip


def _value(value: float | None) -> float | None:
    return value if value is not None and math.isfinite(value) else None
