"""Listening tests, their sittings and trials, and what people noted while they listened."""

from datetime import datetime

from sqlalchemy import ForeignKey, Identity, Index, Text, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.listening.documents import SideDocument, SlotDocument
from kind_echo.database.models.base import Base, Json
from kind_echo.database.states import SittingState, TestKind, one_of


class ListeningTest(Base):
    """What is to be told apart or graded, and how; never changed once it is there.

    `alike` is the same for tests whose sittings pool: the same sides, passage, levels and way of asking. Results are
    hidden until the day `until`, where there is one. `sides` and `options` are those of `bench/listening`. `subject` is
    the page that its sides came from, as "cells/12"; empty where that is not known. Of one that was deleted the clips
    are gone, and what was answered is kept.
    """

    __tablename__ = "listening_test"
    __table_args__ = (one_of("kind", TestKind),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    kind: Mapped[TestKind] = mapped_column(Text)
    name: Mapped[str]
    note: Mapped[str] = mapped_column(server_default="")
    subject: Mapped[str] = mapped_column(server_default="", index=True)
    made_by: Mapped[str]
    made_at: Mapped[datetime]
    until: Mapped[datetime | None]
    alike: Mapped[str] = mapped_column(index=True)
    rate: Mapped[int]
    channels: Mapped[int]
    start: Mapped[int]
    stop: Mapped[int]
    sides: Mapped[list[SideDocument]]
    options: Mapped[Json]
    deleted_at: Mapped[datetime | None]


class Sitting(Base):
    """One person's go at a test; `trials` is its length, set beforehand, and 0 where bounds end it."""

    __tablename__ = "sitting"
    __table_args__ = (
        one_of("state", SittingState),
        Index("one_open_sitting", "test_id", "who", unique=True, postgresql_where=text("state = 'open'")),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    test_id: Mapped[int] = mapped_column(ForeignKey("listening_test.id"), index=True)
    who: Mapped[str]
    trials: Mapped[int]
    state: Mapped[SittingState] = mapped_column(Text, server_default="open")
    begun_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    test: Mapped[ListeningTest] = relationship()
    drawn: Mapped[list["Trial"]] = relationship(order_by="Trial.number")


class Trial(Base):
    """What was drawn for a trial: which side stands behind each slot. Written once, and changed by nobody."""

    __tablename__ = "trial"
    __table_args__ = (UniqueConstraint("sitting_id", "number"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    sitting_id: Mapped[int] = mapped_column(ForeignKey("sitting.id"))
    number: Mapped[int]
    slots: Mapped[list[SlotDocument]]
    drawn_at: Mapped[datetime]
    answer: Mapped["TrialAnswer | None"] = relationship()
    sitting: Mapped[Sitting] = relationship(back_populates="drawn")


class TrialAnswer(Base):
    """What was answered, when, and how often the listener switched. Written once, and changed by nobody."""

    __tablename__ = "trial_answer"
    trial_id: Mapped[int] = mapped_column(ForeignKey("trial.id"), primary_key=True)
    given: Mapped[Json]
    right: Mapped[bool | None]
    switches: Mapped[int]
    seconds: Mapped[float]
    answered_at: Mapped[datetime]


class TrialClip(Base):
    """The address that one slot of a trial is heard under: drawn for it, and told nowhere else."""

    __tablename__ = "trial_clip"
    secret: Mapped[str] = mapped_column(primary_key=True)
    trial_id: Mapped[int] = mapped_column(ForeignKey("trial.id"), index=True)
    slot: Mapped[int]
    trial: Mapped[Trial] = relationship()


class ListeningNote(Base):
    """What somebody heard, of which side and when; `subject` is the page that it was heard on."""

    __tablename__ = "listening_note"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    subject: Mapped[str] = mapped_column(index=True)
    side: Mapped[str]
    second: Mapped[float | None]
    text: Mapped[str]
    who: Mapped[str]
    written_at: Mapped[datetime]


class ListeningWord(Base):
    """A word of the house for what is heard, to be picked."""

    __tablename__ = "listening_word"
    word: Mapped[str] = mapped_column(primary_key=True)
