"""Cells of runs, and rendering them again."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.runs import find_cell, render_again
from kind_echo.database.sessions import transaction
from kind_echo.web.http.addresses import BesideQuery, CellPath
from kind_echo.web.http.answers import answer
from kind_echo.web.http.pair_schemas import PairBody
from kind_echo.web.runs.schemas import RenderAgainBody, RenderedAgainBody
from kind_echo.web.runs.views import cell_pair_body
from kind_echo.web.security.doors import caller

api = APIBlueprint("cells", __name__, url_prefix="/api")


@api.post("/renders", responses={202: RenderedAgainBody})
def render_cells_again(body: RenderAgainBody) -> Response:
    """Render cells anew, whatever earlier runs made of the same."""
    with transaction() as session:
        cells = render_again(session, body.cell_ids, who=caller().name, now=datetime.now(UTC))
        return answer(RenderedAgainBody(cells=len(cells)), 202)


@api.get("/cells/<int:cell_id>", responses={200: PairBody})
def cell(path: CellPath, query: BesideQuery) -> Response:
    """A cell as a pair: its render beside the reference, or beside that of another cell."""
    with transaction() as session:
        other = find_cell(session, query.beside) if query.beside is not None else None
        return answer(cell_pair_body(session, find_cell(session, path.cell_id), other))
