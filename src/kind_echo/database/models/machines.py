"""Hosts, workers, and the conditions that renders are made under."""

from datetime import datetime

from sqlalchemy import BigInteger, Identity, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column

from kind_echo.core.registry.offer_documents import OfferDocument
from kind_echo.database.models.base import Base


class Host(Base):
    """A version of a program that runs effects, and the renderer that has it; `former_names` as name and version.

    `system` is set where builds are made for one, as plug-ins are; `hosting` lists what else it can do for a condition.
    """

    __tablename__ = "host"
    __table_args__ = (UniqueConstraint("name", "version"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    version: Mapped[str]
    description: Mapped[str]
    renderer: Mapped[str]
    modes: Mapped[list[str]]
    system: Mapped[str] = mapped_column(default="", server_default="")
    hosting: Mapped[list[str]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    former_names: Mapped[list[list[str]]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    archived_at: Mapped[datetime | None]


class Worker(Base):
    """A process that takes jobs, on which machine, what it can render, and when it was last seen.

    Of one that reaches the server alone: the queue's `number` for it, and the token that it came by. One that stopped
    is kept for a while, for what its machine can render. `memory` is the most that it took so far, in MB, and `job_id`
    the job that it was at when it was last seen. `look_again_at` is when somebody asked it to look again, until
    it does.
    """

    __tablename__ = "worker"
    __table_args__ = (UniqueConstraint("machine", "process"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    machine: Mapped[str]
    process: Mapped[int]
    renderers: Mapped[list[OfferDocument]]
    number: Mapped[int | None] = mapped_column(BigInteger)
    token_id: Mapped[int | None]
    job_id: Mapped[int | None] = mapped_column(BigInteger)
    memory: Mapped[float | None]
    started_at: Mapped[datetime]
    seen_at: Mapped[datetime]
    stopped_at: Mapped[datetime | None]
    look_again_at: Mapped[datetime | None]


class Machine(Base):
    """A machine that reaches the server alone, and what a keeper lets it render.

    Its name belongs to the token by which it first came. `offers` is what it has, as it said last; `hosts` and
    `effects` are those that were approved, as [renderer, name, version] and [renderer, name, handle].
    """

    __tablename__ = "machine"
    name: Mapped[str] = mapped_column(primary_key=True)
    token_id: Mapped[int] = mapped_column(index=True)
    offers: Mapped[list[OfferDocument]]
    hosts: Mapped[list[list[str]]] = mapped_column(default=list)
    effects: Mapped[list[list[str]]] = mapped_column(default=list)
    arrived_at: Mapped[datetime]
    approved_at: Mapped[datetime | None]
    approved_by: Mapped[str | None]


class Condition(Base):
    """Host, version, mode, rate, block size, channels and word length.

    `hosting` is what the host does beside that, parted by commas; empty for nothing.
    """

    __tablename__ = "condition"
    __table_args__ = (
        UniqueConstraint("host", "host_version", "mode", "rate", "block_size", "channels", "word_length", "hosting"),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    host: Mapped[str]
    host_version: Mapped[str]
    mode: Mapped[str]
    rate: Mapped[int]
    block_size: Mapped[int]
    channels: Mapped[int]
    word_length: Mapped[str]
    hosting: Mapped[str] = mapped_column(default="", server_default="")
