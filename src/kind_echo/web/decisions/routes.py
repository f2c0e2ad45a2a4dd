"""Decisions, and the acts that they are made and undone in."""

from datetime import UTC, datetime

from flask import Response, request
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.decisions import approve_build, count_made, decide, latest_act, touches_references, undo
from kind_echo.bench.notices import tell_of_act
from kind_echo.database.models import Act
from kind_echo.database.sessions import transaction
from kind_echo.web.decisions.schemas import (
    ActBody,
    ActPath,
    ApprovedBuildBody,
    LatestActBody,
    LatestActQuery,
    NewDecisionBody,
)
from kind_echo.web.http.answers import answer
from kind_echo.web.http.schemas import BuildPath
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
        tell_of_act(session, act, _address(), act.at)
        return answer(_act_body(session, act), 201)


@api.post("/builds/<int:build_id>/references", responses={201: ActBody})
def approve_of_build(path: BuildPath, body: ApprovedBuildBody) -> Response:
    """Make the renders of a build that have one of some verdicts the references of their cases, in one act."""
    with transaction() as session:
        act = approve_build(
            session, path.build_id, body.verdicts, expected=body.expected, who=caller().name, why=body.why,
            now=datetime.now(UTC),
        )  # fmt: skip
        tell_of_act(session, act, _address(), act.at)
        return answer(_act_body(session, act), 201)


@api.post("/acts/<int:act_id>/undo", responses={200: ActBody})
def undo_act(path: ActPath) -> Response:
    """Take an act back."""
    known = caller()
    with transaction() as session:
        if touches_references(session, path.act_id):
            known.need("keep")
        now = datetime.now(UTC)
        act = undo(session, path.act_id, who=known.name, now=now)
        tell_of_act(session, act, _address(), now, undone=True)
        return answer(_act_body(session, act))


@api.get("/acts/latest", responses={200: LatestActBody})
def last_act(query: LatestActQuery) -> Response:
    """The last act that can be undone: of a run, of a cell, or of all."""
    with transaction() as session:
        act = latest_act(session, run_id=query.run_id, cell_id=query.cell_id)
        return answer(LatestActBody(act=_act_body(session, act) if act is not None else None))


def _address() -> str:
    return request.url_root.rstrip("/")


def _act_body(session: Session, act: Act) -> ActBody:
    return ActBody(id=act.id, kind=act.kind, who=act.who, at=act.at, why=act.why, cells=count_made(session, act.id))
