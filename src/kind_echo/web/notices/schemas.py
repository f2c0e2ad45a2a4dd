"""Bodies of notices and of the addresses that they go to."""

from datetime import datetime

from pydantic import Field

from kind_echo.bench.notices import Topic
from kind_echo.database.states import NoticeState, TargetKind
from kind_echo.web.http.schemas import Body, RequestModel


class TargetPath(RequestModel):
    """Which address that notices go to."""

    target_id: int


class NoticePath(RequestModel):
    """Which notice."""

    notice_id: int


class TargetBody(Body):
    """Where notices go, and what of; the secret of a webhook is told once, when it is added."""

    id: int
    kind: TargetKind
    address: str
    topics: list[Topic]
    made_by: str
    made_at: datetime
    paused_at: datetime | None
    paused_by: str | None


class NoticeBody(Body):
    """A notice to one of them: how often it was tried, and what was answered last."""

    id: int
    target_id: int
    number: str
    topic: Topic
    subject: str
    made_at: datetime
    state: NoticeState
    attempts: int
    tried_at: datetime | None
    next_at: datetime | None
    answer: str


class NoticesBody(Body):
    """All addresses, and the last notices, newest first."""

    targets: list[TargetBody]
    notices: list[NoticeBody]


class NewTargetBody(Body):
    """An address that notices are to go to, and what of."""

    kind: TargetKind
    address: str = Field(min_length=1, max_length=2000)
    topics: list[Topic] = Field(min_length=1, max_length=20)


class AddedTargetBody(Body):
    """An address that was added, and the secret that its notices are signed with; empty for mail."""

    target: TargetBody
    secret: str


class TargetChangeBody(Body):
    """What is to change: what it is told, or whether it is told anything for now."""

    topics: list[Topic] | None = Field(None, max_length=20)
    paused: bool | None = None
