"""Curves of many over each other: to look at, and as SVG or PNG."""

from collections.abc import Callable
from pathlib import Path
from threading import BoundedSemaphore

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.audio_io.temporary import temporary_folder
from kind_echo.bench.overlays import Drawn, Rows, draw_rows, rows_of_cells, rows_of_set, rows_over_builds
from kind_echo.bench.reports import draw_overlay
from kind_echo.bench.sets import find_set
from kind_echo.database.sessions import snapshot
from kind_echo.web.http.addresses import CellPath
from kind_echo.web.http.answers import answer
from kind_echo.web.http.files import PLOT_TYPES, PlotForm, sent_and_gone
from kind_echo.web.overlays.schemas import (
    CellOverlayPath,
    CellsOverlayQuery,
    FormPath,
    OverlayBody,
    OverlayQuery,
    SetOverlayPath,
    SetOverlayQuery,
)
from kind_echo.web.overlays.views import overlay_body
from kind_echo.web.sets.schemas import SetPath

api = APIBlueprint("overlays", __name__, url_prefix="/api/overlays")

_DRAWING = BoundedSemaphore(2)  # the spectra of forty long files take a core for a while: others are to have their turn


@api.get("/sets/<int:set_id>", responses={200: OverlayBody})
def of_set(path: SetPath, query: SetOverlayQuery) -> Response:
    """Files of a set over each other."""
    return _shown(lambda session: _set_rows(session, path.set_id, query), query)


@api.get("/sets/<int:set_id>.<string:form>")
def of_set_as_file(path: SetOverlayPath, query: SetOverlayQuery) -> Response:
    """Files of a set over each other, as a file."""
    return _sent(lambda session: _set_rows(session, path.set_id, query), query, path.form)


@api.get("/cells", responses={200: OverlayBody})
def of_cells(query: CellsOverlayQuery) -> Response:
    """Renders of cells over each other."""
    return _shown(lambda session: rows_of_cells(session, _numbers(query.cells), query.against), query)


@api.get("/cells.<string:form>")
def of_cells_as_file(path: FormPath, query: CellsOverlayQuery) -> Response:
    """Renders of cells over each other, as a file."""
    return _sent(lambda session: rows_of_cells(session, _numbers(query.cells), query.against), query, path.form)


@api.get("/builds/<int:cell_id>", responses={200: OverlayBody})
def over_builds(path: CellPath, query: OverlayQuery) -> Response:
    """The renders of one cell on each build, oldest first."""
    return _shown(lambda session: rows_over_builds(session, path.cell_id, query.against), query)


@api.get("/builds/<int:cell_id>.<string:form>")
def over_builds_as_file(path: CellOverlayPath, query: OverlayQuery) -> Response:
    """The renders of one cell on each build, as a file."""
    return _sent(lambda session: rows_over_builds(session, path.cell_id, query.against), query, path.form)


def _set_rows(session: Session, set_id: int, query: SetOverlayQuery) -> Rows:
    return rows_of_set(session, find_set(session, set_id), _numbers(query.files), query.against)


def _numbers(text: str) -> list[int]:
    return [int(number) for number in text.split(",") if number]


def _drawn(session: Session, rows: Callable[[Session], Rows], query: OverlayQuery) -> Drawn:
    passage = None if query.stop is None else (query.start or 0.0, query.stop)
    return draw_rows(session, rows(session), query.kind, passage)


def _shown(rows: Callable[[Session], Rows], query: OverlayQuery) -> Response:
    with _DRAWING, snapshot() as session:
        return answer(overlay_body(_drawn(session, rows, query)))


def _sent(rows: Callable[[Session], Rows], query: OverlayQuery, form: PlotForm) -> Response:
    with _DRAWING, temporary_folder() as folder, snapshot() as session:
        drawn = _drawn(session, rows, query)
        target = Path(folder) / f"{drawn.overlay.kind.key}.{form}"
        draw_overlay(target, drawn)
        return sent_and_gone(target, PLOT_TYPES[form], target.name)
