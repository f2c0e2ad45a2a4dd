"""Who is told of what, what was sent, and plans that run by themselves."""

from datetime import datetime

from sqlalchemy import CheckConstraint, ForeignKey, Identity, Text, false, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.database.models.base import Base, Json
from kind_echo.database.states import NoticeState, TargetKind, one_of


class NoticeTarget(Base):
    """Where notices go: an address that takes webhooks, with the secret that they are signed with, or one for mail."""

    __tablename__ = "notice_target"
    __table_args__ = (one_of("kind", TargetKind),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    kind: Mapped[TargetKind] = mapped_column(Text)
    address: Mapped[str]
    topics: Mapped[list[str]]
    secret: Mapped[str]
    made_by: Mapped[str]
    made_at: Mapped[datetime]
    paused_at: Mapped[datetime | None]
    paused_by: Mapped[str | None]


class Notice(Base):
    """One notice to one target: `number` is the same each time that it is tried, `answer` what came back last."""

    __tablename__ = "notice"
    __table_args__ = (one_of("state", NoticeState),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    target_id: Mapped[int] = mapped_column(ForeignKey("notice_target.id", ondelete="CASCADE"), index=True)
    number: Mapped[str]
    topic: Mapped[str]
    subject: Mapped[str]
    lines: Mapped[list[str]]
    data: Mapped[Json]
    made_at: Mapped[datetime] = mapped_column(index=True)
    state: Mapped[NoticeState] = mapped_column(Text, default="waiting")
    attempts: Mapped[int] = mapped_column(server_default="0", default=0)
    tried_at: Mapped[datetime | None]
    next_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="", default="")
    target: Mapped[NoticeTarget] = relationship()


class Schedule(Base):
    """Plans that run on the newest build of their effects: on days of the week (0 is Monday), at a minute of the day.

    `again` runs one also where that build has run at this revision already; `last_told` says what came of it last.
    """

    __tablename__ = "schedule"
    __table_args__ = (CheckConstraint("minute BETWEEN 0 AND 1439", name="minute"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    plan_ids: Mapped[list[int]]
    days: Mapped[list[int]]
    minute: Mapped[int]
    zone: Mapped[str]
    everything: Mapped[bool] = mapped_column(server_default=false(), default=False)
    again: Mapped[bool] = mapped_column(server_default=false(), default=False)
    made_by: Mapped[str]
    made_at: Mapped[datetime]
    paused_at: Mapped[datetime | None]
    next_at: Mapped[datetime]
    last_at: Mapped[datetime | None]
    last_told: Mapped[str] = mapped_column(server_default=text("''"), default="")
