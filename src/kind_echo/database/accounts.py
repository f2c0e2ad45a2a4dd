"""The tables of people, their ways in, and what programs come in by; no secret is kept, only what tells it again."""

from datetime import datetime

from sqlalchemy import BigInteger, CheckConstraint, ForeignKey, Identity, Index, func
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.database.models import Base


class Person(Base):
    """Somebody with an account. `stamp` is part of each of their sessions: a new one ends them all."""

    __tablename__ = "person"
    __table_args__ = (CheckConstraint("role IN ('look', 'work', 'keep')", name="role"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    role: Mapped[str]
    password_hash: Mapped[str | None]
    stamp: Mapped[str]
    made_at: Mapped[datetime]
    made_by: Mapped[str]
    signed_in_at: Mapped[datetime | None]
    disabled_at: Mapped[datetime | None]


Index("uq_person_name", func.lower(Person.name), unique=True)


class EndedSession(Base):
    """A session that was signed out, by its number; kept for as long as its cookie could still be shown."""

    __tablename__ = "ended_session"
    number: Mapped[str] = mapped_column(primary_key=True)
    ended_at: Mapped[datetime]


class SignInLink(Base):
    """A link that lets its person in once, to choose a password; a `local` one needs none, and works on loopback."""

    __tablename__ = "sign_in_link"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    person_id: Mapped[int] = mapped_column(ForeignKey("person.id"), index=True)
    digest: Mapped[str] = mapped_column(unique=True)
    local: Mapped[bool]
    ends_at: Mapped[datetime]
    used_at: Mapped[datetime | None]
    person: Mapped[Person] = relationship()


class Token(Base):
    """What a program comes in by instead of a person."""

    __tablename__ = "token"
    __table_args__ = (CheckConstraint("scope IN ('read', 'submit', 'upload', 'render')", name="scope"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    scope: Mapped[str]
    digest: Mapped[str] = mapped_column(unique=True)
    made_at: Mapped[datetime]
    made_by: Mapped[str]
    ends_at: Mapped[datetime]
    used_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]
    revoked_by: Mapped[str | None]


class Attempt(Base):
    """One attempt at a route that is limited, by who made it and what limit it counts for."""

    __tablename__ = "attempt"
    __table_args__ = (Index("ix_attempt_key_at", "key", "at"),)
    id: Mapped[int] = mapped_column(BigInteger, Identity(), primary_key=True)
    key: Mapped[str]
    at: Mapped[datetime]


class JobCount(Base):
    """How often jobs of a task came to an end, and the seconds that they took; for the metrics."""

    __tablename__ = "job_count"
    task: Mapped[str] = mapped_column(primary_key=True)
    outcome: Mapped[str] = mapped_column(primary_key=True)
    jobs: Mapped[int] = mapped_column(BigInteger)
    seconds: Mapped[float]
