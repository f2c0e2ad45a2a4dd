"""Bodies of schedules."""

from datetime import datetime

from pydantic import Field

from kind_echo.web.http.schemas import Body, RequestModel


class SchedulePath(RequestModel):
    """Which schedule."""

    schedule_id: int


class ScheduledPlanBody(Body):
    """A plan that a schedule runs."""

    id: int
    name: str
    effect: str


class ScheduleBody(Body):
    """A schedule: days of the week from 0 for Monday, the minute of the day in its zone, and what came of it last."""

    id: int
    plans: list[ScheduledPlanBody]
    days: list[int]
    minute: int
    zone: str
    everything: bool
    again: bool
    made_by: str
    made_at: datetime
    paused_at: datetime | None
    next_at: datetime
    last_at: datetime | None
    last_told: str


class SchedulesBody(Body):
    """All schedules, oldest first."""

    schedules: list[ScheduleBody]


class NewScheduleBody(Body):
    """Which plans run, when; `everything` renders all cells, `again` runs a build that has run already."""

    plan_ids: list[int] = Field(min_length=1, max_length=50)
    days: list[int] = Field(min_length=1, max_length=7)
    minute: int
    zone: str = Field("UTC", min_length=1, max_length=100)
    everything: bool = False
    again: bool = False


class ScheduleChangeBody(Body):
    """Whether a schedule rests."""

    paused: bool
