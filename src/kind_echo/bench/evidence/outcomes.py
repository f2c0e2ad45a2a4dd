"""The cells of a run as build servers see them."""

from collections.abc import Sequence
from datetime import date

from sqlalchemy.orm import Session

from kind_echo.bench.decisions import Standing, standings
from kind_echo.database.models import Cell, Run
from kind_echo.wording.conditions import whole_condition_text
from kind_echo.wording.outcomes import Outcome, outcome_of_cell


def outcomes_of(session: Session, run: Run, cells: Sequence[Cell], today: date) -> list[Outcome]:
    """What came of cells of a run, in their order."""
    standing = standings(session, run, today)
    return [_outcome(cell, standing.get(cell.id)) for cell in cells]


def _outcome(cell: Cell, decision: Standing | None) -> Outcome:
    lines = [cell.analysis.explanation] if cell.analysis is not None and cell.analysis.explanation else []
    decided = None
    if decision is not None and decision.holds:
        until = f" until {decision.until}" if decision.until else ""
        decided = f"{decision.kind}{until} by {decision.who}{f': {decision.why}' if decision.why else ''}"
    case = f"{cell.case.signal.name}, {cell.case.setting.name}"
    where = whole_condition_text(cell.condition)
    return outcome_of_cell(case, where, cell.verdict, cell.why, decided, cell.ink, lines)
