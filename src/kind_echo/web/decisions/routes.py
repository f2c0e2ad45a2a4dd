"""Decisions, and the acts that they are made and undone in."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.decisions import decide, latest_act, touches_references, undo
from kind_echo.bench.notices import tell_of_act
from kind_echo.database.sessions import transaction
from kind_echo.web.decisions.schemas import (
    ActBody,
    ActPath,
    LatestActBody,
    LatestActQuery,
    NewDecisionBody,
)
from kind_echo.web.decisions.views import act_body, page_root
from kind_echo.web.http.answers import answer
from kind_echo.web.security.doors import caller

api = APIBlueprint("decisions", __name__, url_prefix="/api")


@api.post("/decisions", responses={201: ActBody})
def new_decision(body: NewDecisionBody) -> Response:
    """Decide on cells in one act: accept (as a reference or not), record a fault, or waive."""
    known = caller()
    if body.kind == "reference":
        known.need("keep")
    with transaction() as session:
        act = decide(
            session, body.cell_ids, body.kind, who=known.name, now=datetime.now(UTC), why=body.why,
            ticket=body.ticket, until=body.until, seen=body.seen,
        )  # fmt: skip
        tell_of_act(session, act, page_root(), act.at)
        return answer(act_body(session, act), 201)


@api.post("/acts/<int:act_id>/undo", responses={200: ActBody})
def undo_act(path: ActPath) -> Response:
    """Take an act back."""
    known = caller()
    with transaction() as session:
        if touches_references(session, path.act_id):
            known.need("keep")
        now = datetime.now(UTC)
        act = undo(session, path.act_id, who=known.name, now=now)
        tell_of_act(session, act, page_root(), now, undone=True)
        return answer(act_body(session, act))


@api.get("/acts/latest", responses={200: LatestActBody})
def last_act(query: LatestActQuery) -> Response:
    """The last act that can be undone: of a run, of a cell, or of all."""
    with transaction() as session:
        act = latest_act(session, run_id=query.run_id, cell_id=query.cell_id)
        return answer(LatestActBody(act=act_body(session, act) if act is not None else None))
