"""Addresses that notices go to, and notices."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint

from kind_echo.bench.notices import (
    add_target,
    all_targets,
    change_target,
    find_target,
    latest_notices,
    remove_target,
    tell_again,
    tell_test,
)
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.notices.schemas import (
    AddedTargetBody,
    NewTargetBody,
    NoticeBody,
    NoticePath,
    NoticesBody,
    TargetBody,
    TargetChangeBody,
    TargetPath,
)
from kind_echo.web.security.doors import caller

api = APIBlueprint("notices", __name__, url_prefix="/api/notices")

_SHOWN = 100


@api.get("", responses={200: NoticesBody})
def notices() -> Response:
    """Where notices go, and the last of them."""
    with transaction() as session:
        targets = [TargetBody.model_validate(one) for one in all_targets(session)]
        sent = [NoticeBody.model_validate(one) for one in latest_notices(session, _SHOWN)]
        return answer(NoticesBody(targets=targets, notices=sent))


@api.post("/targets", responses={201: AddedTargetBody})
def new_target(body: NewTargetBody) -> Response:
    """Add an address; the secret of a webhook is told once."""
    with transaction() as session:
        who, now = caller().name, datetime.now(UTC)
        target = add_target(session, body.kind, body.address, body.topics, who=who, now=now)
        return answer(AddedTargetBody(target=TargetBody.model_validate(target), secret=target.secret), 201)


@api.post("/targets/<int:target_id>/change", responses={200: TargetBody})
def change(path: TargetPath, body: TargetChangeBody) -> Response:
    """Choose what an address is told, pause it, or go on."""
    with transaction() as session:
        who, now = caller().name, datetime.now(UTC)
        target = change_target(session, path.target_id, who=who, now=now, topics=body.topics, paused=body.paused)
        return answer(TargetBody.model_validate(target))


@api.delete("/targets/<int:target_id>")
def remove(path: TargetPath) -> Response:
    """Tell an address nothing more."""
    with transaction() as session:
        remove_target(session, path.target_id, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


@api.post("/targets/<int:target_id>/test", responses={202: NoticeBody})
def test(path: TargetPath) -> Response:
    """Send a notice to try an address."""
    with transaction() as session:
        target = find_target(session, path.target_id)
        return answer(NoticeBody.model_validate(tell_test(session, target, caller().name, datetime.now(UTC))), 202)


@api.post("/<int:notice_id>/again", responses={202: NoticeBody})
def again(path: NoticePath) -> Response:
    """Try a notice once more."""
    with transaction() as session:
        return answer(NoticeBody.model_validate(tell_again(session, path.notice_id)), 202)
