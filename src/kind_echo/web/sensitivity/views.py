"""What is known of a plan's sensitivity, as the page has it."""

from collections.abc import Callable, Sequence

from kind_echo.bench.sensitivity import Closing, PlanSensitivity
from kind_echo.core.sensitivity.closing import TRIED
from kind_echo.core.sensitivity.summary import Cell, Row, Wanted, by_column, cover
from kind_echo.web.sensitivity.schemas import (
    ColumnBody,
    LeastBody,
    SensitivityBody,
    SensitivityFailureBody,
    SensitivityRowBody,
    ShownInBody,
)
from kind_echo.wording.sensitivity import (
    by_text,
    cover_sentence,
    ink_of,
    least_text,
    row_sentence,
    row_text,
    size_text,
    summary_sentence,
)


def sensitivity_body(told: PlanSensitivity, cells: int, wanted: Wanted) -> SensitivityBody:
    """The body; sentences and tables once all is known."""
    whole = told.cells if told.under_way == 0 else []
    rows = told.rows if whole else []
    found = cover(whole)
    return SensitivityBody(
        cells=cells, known=len(told.cells), under_way=told.under_way, without=told.without,
        failed=[SensitivityFailureBody(where=f"{cell.case}, {cell.condition}", why=why) for cell, why in told.failed],
        summary=summary_sentence(rows) if rows else "",
        rows=[_row_body(row, told, len(whole)) for row in rows],
        by_case=_columns(whole, rows, wanted, lambda cell: cell.case),
        by_condition=_columns(whole, rows, wanted, lambda cell: cell.condition),
        cover=cover_sentence(found) if len({cell.case for cell in whole}) > 1 else "",
        spare=list(found.spare),
    )  # fmt: skip


def _row_body(row: Row, told: PlanSensitivity, cells: int) -> SensitivityRowBody:
    closing = told.closing.get(row.fault.key, Closing((), None))
    where = "" if row.where is None else f"{row.where.case}, {row.where.condition}"
    return SensitivityRowBody(
        fault=row.fault.key, title=row.fault.title, unit=row.fault.unit, text=row_text(row),
        by=by_text(row.least), where=where, passing=len(row.passing),
        wanted="" if row.wanted is None else size_text(row.fault, row.wanted), is_met=row.is_met,
        is_noticed=row.least is not None, sentence=row_sentence(row, cells),
        shows_in=[ShownInBody(title=title, request=dict(TRIED[title])) for title in closing.signals if title in TRIED],
        limit=closing.limit,
    )  # fmt: skip


def _columns(
    cells: Sequence[Cell], rows: Sequence[Row], wanted: Wanted, name: Callable[[Cell], str]
) -> list[ColumnBody]:
    """A column each, its places in the order of the rows."""
    found = []
    for title, own in by_column(cells, name).items():
        by_fault = {row.fault.key: row for row in own}
        places = []
        for row in rows:
            here = by_fault[row.fault.key]
            text = least_text(here.fault, here.least) if here.least is not None else _passing(here)
            places.append(LeastBody(text=text, by=by_text(here.least), ink=ink_of(here, wanted.get(here.fault.key))))
        found.append(ColumnBody(name=title, places=places))
    return found


def _passing(row: Row) -> str:
    """Of several cells what the most telling of them says."""
    told = [cell.found[row.fault.key] for cell in row.passing]
    order = ("passes", "no change", "fails already", "not there")
    told.sort(key=lambda least: order.index(least.state))
    return least_text(row.fault, told[0]) if told else ""
