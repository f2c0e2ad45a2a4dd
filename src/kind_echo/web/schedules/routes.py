"""Schedules: plans that run by themselves on the newest build of their effects."""

from datetime import UTC, datetime

from flask import Response
from flask_openapi3 import APIBlueprint
from sqlalchemy.orm import Session

from kind_echo.bench.schedules import Schedule, add_schedule, all_schedules, pause_schedule, plans_of, remove_schedule
from kind_echo.database.sessions import transaction
from kind_echo.web.http.answers import answer
from kind_echo.web.schedules.schemas import (
    NewScheduleBody,
    ScheduleBody,
    ScheduleChangeBody,
    ScheduledPlanBody,
    SchedulePath,
    SchedulesBody,
)
from kind_echo.web.security.doors import caller

api = APIBlueprint("schedules", __name__, url_prefix="/api/schedules")


@api.get("", responses={200: SchedulesBody})
def schedules() -> Response:
    """All schedules."""
    with transaction() as session:
        return answer(SchedulesBody(schedules=[_body(session, one) for one in all_schedules(session)]))


@api.post("", responses={201: ScheduleBody})
def new_schedule(body: NewScheduleBody) -> Response:
    """Let plans run by themselves."""
    with transaction() as session:
        made = add_schedule(
            session, body.plan_ids, body.days, body.minute, body.zone, everything=body.everything, again=body.again,
            who=caller().name, now=datetime.now(UTC),
        )  # fmt: skip
        return answer(_body(session, made), 201)


@api.post("/<int:schedule_id>/change", responses={200: ScheduleBody})
def change(path: SchedulePath, body: ScheduleChangeBody) -> Response:
    """Let a schedule rest, or go on."""
    with transaction() as session:
        who, now = caller().name, datetime.now(UTC)
        return answer(_body(session, pause_schedule(session, path.schedule_id, paused=body.paused, who=who, now=now)))


@api.delete("/<int:schedule_id>")
def remove(path: SchedulePath) -> Response:
    """Run plans by it no more."""
    with transaction() as session:
        remove_schedule(session, path.schedule_id, who=caller().name, now=datetime.now(UTC))
    return Response(status=204)


def _body(session: Session, one: Schedule) -> ScheduleBody:
    plans = [ScheduledPlanBody(id=plan.id, name=plan.name, effect=plan.effect.name) for plan in plans_of(session, one)]
    return ScheduleBody(
        id=one.id, plans=plans, days=one.days, minute=one.minute, zone=one.zone, everything=one.everything,
        again=one.again, made_by=one.made_by, made_at=one.made_at, paused_at=one.paused_at, next_at=one.next_at,
        last_at=one.last_at, last_told=one.last_told,
    )  # fmt: skip
