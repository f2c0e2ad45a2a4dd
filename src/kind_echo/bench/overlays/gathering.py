"""The rows that are meant: files of a set, cells of runs, one cell over builds."""

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload, undefer

from kind_echo.bench.decisions import current_reference, version_of
from kind_echo.bench.overlays.rows import (
    MOST_LINES,
    NothingToDraw,
    Row,
    Rows,
    TooManyLines,
    curves_from,
    telling,
    why_without,
)
from kind_echo.bench.runs import CellNotFound, find_cell
from kind_echo.bench.sets import find_file
from kind_echo.bench.sheets import siblings_of
from kind_echo.database.models import Case, Cell, FileSet, Reference, Render
from kind_echo.wording.conditions import condition_text, rate_text

APPROVED = 0
"""Number of the row that is the approved reference, and no cell."""


def rows_of_set(session: Session, found: FileSet, numbers: Sequence[int], against: int | None) -> Rows:
    """Files of a set in its order; all of them where none is named.

    The file that they are measured against is among them, whether it is named or not, and they are held against it,
    unless another is chosen for that. What went in is no row: the others are its answers.

    Raises:
        SetFileNotFound: one of them is not in it.
        TooManyLines, NothingToDraw: as they say.
    """
    wanted = {find_file(found, number).id for number in numbers} or {one.id for one in found.files}
    special = next((one for one in found.files if one.role == "reference"), None)
    # One that has been taken out since is held against no more.
    chosen = next((one for one in found.files if one.id == against and one.role != "input"), special)
    files = [one for one in found.files if one.id in wanted and one.role != "input"]
    _check(len([one for one in files if one is not chosen]) or len(files))
    files = [one for one in found.files if one in files or one is chosen]
    labels, _ = telling([(one.folder, one.upload.name) for one in files], worth=2)
    rows = [
        Row(one.id, label, one.upload.content, curves_from(one.curves), why_without(one.state, one.curves))
        for one, label in zip(files, labels, strict=True)
    ]
    return Rows(rows, rows[0].number if chosen is None else chosen.id, found.name, "file")


def rows_of_cells(session: Session, numbers: Sequence[int], against: int | None) -> Rows:
    """Cells in the order in which they are named.

    Where all of them have one approved reference in common, it is a row of its own, and what they are held against
    unless another is; else the first of them is.

    Raises:
        CellNotFound: one of them is not there.
        TooManyLines, NothingToDraw: as they say.
    """
    wanted = list(dict.fromkeys(numbers))
    _check(len(wanted))
    query = select(Cell).where(Cell.id.in_(wanted)).options(*_WITH_CURVES)
    found = {cell.id: cell for cell in session.scalars(query)}
    for number in wanted:
        if number not in found:
            raise CellNotFound(number)
    cells = [found[number] for number in wanted]
    labels, common = telling([_parts(cell) for cell in cells], worth=_WORTH_TELLING)
    rows = [_row(cell, label) for cell, label in zip(cells, labels, strict=True)]
    approved = {one.render_id: one for cell in cells if (one := current_reference(session, cell)) is not None}
    (one_for_all,) = approved.values() if len(approved) == 1 else (None,)
    if one_for_all is not None:
        rows.insert(0, _approved_row(session, one_for_all))
    reference = against if against in {row.number for row in rows} else rows[0].number
    return Rows(rows, reference, ", ".join(common), "render")


def rows_over_builds(session: Session, number: int, against: int | None) -> Rows:
    """One case under one condition on each build that it was rendered of, oldest first, beside its approved reference.

    Of more builds than there is room for the newest count. Raises CellNotFound.
    """
    cell = find_cell(session, number)
    runs = siblings_of(session, cell.run)
    query = (
        select(Cell)
        .join(Case, Case.id == Cell.case_id)
        .where(
            Cell.run_id.in_([run.id for run in runs]), Cell.condition_id == cell.condition_id,
            Case.fingerprint == cell.case.fingerprint,
        )
        .options(*_WITH_CURVES)
    )  # fmt: skip
    by_run = {one.run_id: one for one in session.scalars(query)}
    cells = [by_run[run.id] for run in runs if run.id in by_run][1 - MOST_LINES :]
    rows = [_row(one, one.run.build.version) for one in cells]
    approved = current_reference(session, cell)
    if approved is not None:
        rows.insert(0, _approved_row(session, approved))
    reference = against if against in {row.number for row in rows} else rows[0].number
    case, condition = cell.case, condition_text(cell.condition)
    shared = f"{cell.run.build.effect.name}, {case.signal.name}, {case.setting.name}, {condition}"
    return Rows(rows, reference, shared, "build")


_WITH_CURVES = (joinedload(Cell.render).options(undefer(Render.curves)), joinedload(Cell.case))


def _row(cell: Cell, label: str) -> Row:
    render = cell.render
    if render is None:
        return Row(cell.id, label, None)
    return Row(cell.id, label, render.content, curves_from(render.curves))


def _approved_row(session: Session, reference: Reference) -> Row:
    label = f"approved reference, {version_of(session, reference)}"
    return Row(APPROVED, label, reference.render.content, curves_from(reference.render.curves))


_WORTH_TELLING = 7  # of the parts of a cell: blocks, channels and words only where they tell two apart


def _parts(cell: Cell) -> tuple[str, ...]:
    """A cell by all that may tell it from another."""
    condition, build = cell.condition, cell.run.build
    channels = "1 channel" if condition.channels == 1 else f"{condition.channels} channels"
    return (
        f"{build.effect.name} {build.version}", cell.case.signal.name, cell.case.setting.name,
        f"{condition.host} {condition.host_version}", condition.mode, condition.hosting, rate_text(condition.rate),
        f"blocks of {condition.block_size}", channels, condition.word_length,
    )  # fmt: skip


def _check(count: int) -> None:
    if count == 0:
        raise NothingToDraw
    if count > MOST_LINES:
        raise TooManyLines(count)
