"""Searches for the first build that differs."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.runs import Looked, Search, find_search, standing_of, start_search
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import ConditionBody
from kind_echo.web.searches.schemas import LookedBody, NewSearchBody, SearchBody, SearchPath
from kind_echo.web.security.doors import caller

api = APIBlueprint("searches", __name__, url_prefix="/api")


@api.post("/searches", responses={201: SearchBody})
def new_search(body: NewSearchBody) -> Response:
    """Search the first build in which a cell's case and condition do not pass."""
    with transaction() as session:
        search = start_search(session, body.cell_id, who=caller().name, now=datetime.now(UTC))
        return answer(_search_body(session, search), 201)


@api.get("/searches/<int:search_id>", responses={200: SearchBody})
def search_state(path: SearchPath) -> Response:
    """How a search stands."""
    with transaction() as session:
        return answer(_search_body(session, find_search(session, path.search_id)))


def _search_body(session: Session, search: Search) -> SearchBody:
    found = standing_of(session, search)
    return SearchBody(
        id=search.id,
        effect=search.good_build.effect.name,
        signal=search.case.signal.name,
        setting=search.case.setting.name,
        condition=ConditionBody.model_validate(search.condition),
        started_by=search.started_by,
        started_at=search.started_at,
        builds=[_looked_body(one) for one in found.looked],
        first=found.first,
    )


def _looked_body(one: Looked) -> LookedBody:
    cell = one.cell
    return LookedBody.model_validate({
        "version": one.build.version, "note": one.build.note, "cell_id": cell.id if cell else None,
        "state": cell.state if cell else None, "verdict": cell.verdict if cell else None,
        "why": cell.why if cell else "", "passes": one.passes,
    })  # fmt: skip
