"""What is known of a plan's sensitivity: cells and rows, what is still being found, and what could not be."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from kind_echo.bench.plans import document_of
from kind_echo.bench.sensitivity.asking import PlanCell, closing_asked, gaps_of, key_of, planned_cells
from kind_echo.core.registry.errors import Invalid
from kind_echo.core.sensitivity.documents import ClosingAsked, FoundDocument
from kind_echo.core.sensitivity.least import Least
from kind_echo.core.sensitivity.summary import USUAL_WANTED, Cell, Row, Wanted, rows_of
from kind_echo.database.models import Run, Sensitivity


@dataclass(frozen=True)
class Closing:
    """What would close a gap: test signals that show it, by what they are called, and the limit of the residual."""

    signals: tuple[str, ...]
    limit: float | None

    @classmethod
    def of(cls, found: Sequence[FoundDocument]) -> "Closing":
        """What was found, as it is kept."""
        limit = next((one["limit"] for one in found if "limit" in one), None)
        return cls(tuple(one["title"] for one in found if "title" in one), limit)


@dataclass(frozen=True)
class PlanSensitivity:
    """What is known.

    Attributes:
        cells: of which something is known.
        rows: over all of them; none before all of them are known.
        closing: what would close a gap, by the fault's key, as far as that is known.
        wanting: what of that nobody has found yet, as it is asked for.
        cells_left: cells of which it is still being found.
        under_way: pieces of work that are not done, signals that are tried among them.
        without: cells for which no render is approved.
        failed: cells of which nothing could be found, and why.
    """

    cells: list[Cell]
    rows: list[Row]
    closing: dict[str, Closing]
    wanting: list[ClosingAsked]
    cells_left: int
    under_way: int
    without: int
    failed: list[tuple[PlanCell, str]]

    @property
    def knows_cells(self) -> bool:
        """Whether all that can be known of the cells is, and there is anything."""
        return self.cells_left == 0 and bool(self.cells)


def plan_sensitivity(session: Session, planned: Sequence[PlanCell], wanted: Wanted) -> PlanSensitivity:
    """What is known of a plan's cells; nothing is asked for."""
    known = _known(session, [cell.key for cell in planned if cell.asked is not None])
    cells, failed, under_way = [], [], set()
    for one in planned:
        row = known.get(one.key)
        if one.asked is None:
            continue
        if row is not None and row.found is not None:
            found = [Least.of(document) for document in row.found]
            cells.append(Cell(one.case, one.condition, row.seconds, {least.fault: least for least in found}))
        elif row is not None and row.why:
            failed.append((one, row.why))
        else:
            under_way.add(one.key)
    left = len(under_way)
    rows = rows_of(cells, wanted) if cells and not left else []
    closing: dict[str, Closing] = {}
    wanting: list[ClosingAsked] = []
    if not left:
        by_place = {(one.case, one.condition): one for one in planned}
        asked = {row.fault.key: closing_asked(row, by_place) for row in gaps_of(rows)}
        tried = _known(session, map(key_of, asked.values()))
        for fault, wants in asked.items():
            gap = tried.get(key_of(wants))
            if gap is not None and gap.found is not None:
                closing[fault] = Closing.of(gap.found)
            elif gap is None or not gap.why:
                wanting.append(wants)
                under_way.add(key_of(wants))
    without = sum(one.asked is None for one in planned)
    return PlanSensitivity(cells, rows, closing, wanting, left, len(under_way), without, failed)


def run_sensitivity(session: Session, run: Run) -> PlanSensitivity | None:
    """What the plan of a run notices, where somebody has had that found out for all of its cells; nothing is asked for.

    None as well where the plan is too large for it, or can no longer be used.
    """
    if session.scalar(select(Sensitivity.id).where(Sensitivity.found.is_not(None)).limit(1)) is None:
        return None
    try:
        planned = planned_cells(session, document_of(session, run.revision))
    except Invalid:
        return None
    told = plan_sensitivity(session, planned, USUAL_WANTED)
    return told if told.knows_cells else None


def _known(session: Session, keys: Iterable[str]) -> dict[str, Sensitivity]:
    rows = session.scalars(select(Sensitivity).where(Sensitivity.key.in_(set(keys))))
    return {row.key: row for row in rows}
