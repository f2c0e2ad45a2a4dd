"""The tables: names as in the design's list of words; rules that a database can hold are held here."""

from datetime import date, datetime
from typing import Any, Literal

from sqlalchemy import (
    BigInteger,
    CheckConstraint,
    DateTime,
    Double,
    ForeignKey,
    Identity,
    Index,
    LargeBinary,
    MetaData,
    Text,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

Json = dict[str, Any]
Against = Literal["reference", "signal"]


class Base(DeclarativeBase):
    """Base of all tables; every time has its zone."""

    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "ck": "ck_%(table_name)s_%(constraint_name)s",
            "fk": "fk_%(table_name)s_%(column_0_N_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {  # noqa: RUF012 - SQLAlchemy's own protocol
        datetime: DateTime(timezone=True),
        str: Text,
        float: Double,
        Json: JSONB,
        list[Json]: JSONB,
        list[int]: JSONB,
        list[list[int]]: JSONB,
        list[str]: JSONB,
        bytes: LargeBinary,
    }


class Effect(Base):
    """A product under test: what can be set, and what its renderer knows it by where that is not its name."""

    __tablename__ = "effect"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    description: Mapped[str]
    handle: Mapped[str] = mapped_column(server_default="")
    parameters: Mapped[list[Json]] = mapped_column(server_default=text("'[]'::jsonb"))


class Build(Base):
    """One version of an effect; `position` is its order."""

    __tablename__ = "build"
    __table_args__ = (UniqueConstraint("effect_id", "version"), UniqueConstraint("effect_id", "position"))
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    version: Mapped[str]
    position: Mapped[int]
    note: Mapped[str]
    effect: Mapped[Effect] = relationship()


class Setting(Base):
    """Named parameter values of an effect; of a sum of renders, those of each of its parts."""

    __tablename__ = "setting"
    __table_args__ = (UniqueConstraint("effect_id", "name"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    name: Mapped[str]
    parameters: Mapped[Json]
    parts: Mapped[list[Json]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))


class Signal(Base):
    """A stimulus: what is asked of the generator."""

    __tablename__ = "signal"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    request: Mapped[Json]


class Host(Base):
    """A version of a program that runs effects, and the renderer that has it."""

    __tablename__ = "host"
    __table_args__ = (UniqueConstraint("name", "version"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    version: Mapped[str]
    description: Mapped[str]
    renderer: Mapped[str]
    modes: Mapped[list[str]]


class Worker(Base):
    """A process that takes jobs, on which machine, what it can render, and when it was last seen.

    Of one that reaches the server alone: the queue's `number` for it, and the token that it came by. One that stopped
    is kept for a while, for what its machine can render.
    """

    __tablename__ = "worker"
    __table_args__ = (UniqueConstraint("machine", "process"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    machine: Mapped[str]
    process: Mapped[int]
    renderers: Mapped[list[Json]]
    number: Mapped[int | None] = mapped_column(BigInteger)
    token_id: Mapped[int | None]
    started_at: Mapped[datetime]
    seen_at: Mapped[datetime]
    stopped_at: Mapped[datetime | None]


class Condition(Base):
    """Host, version, mode, rate, block size, channels and word length."""

    __tablename__ = "condition"
    __table_args__ = (
        UniqueConstraint("host", "host_version", "mode", "rate", "block_size", "channels", "word_length"),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    host: Mapped[str]
    host_version: Mapped[str]
    mode: Mapped[str]
    rate: Mapped[int]
    block_size: Mapped[int]
    channels: Mapped[int]
    word_length: Mapped[str]


class Plan(Base):
    """Cases × conditions for an effect; what it holds is in its revisions."""

    __tablename__ = "plan"
    __table_args__ = (UniqueConstraint("effect_id", "name"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    name: Mapped[str]
    effect: Mapped[Effect] = relationship()


class PlanRevision(Base):
    """A plan as it was when runs ran it; never edited.

    `condition_limits` has limits that go before those of the cases, by the condition's number; `excluded` lists pairs
    of a case's position and a condition's number that are not rendered. `document` is the plan as it was written, for
    those that were.
    """

    __tablename__ = "plan_revision"
    __table_args__ = (UniqueConstraint("plan_id", "number"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    plan_id: Mapped[int] = mapped_column(ForeignKey("plan.id"))
    number: Mapped[int]
    created_at: Mapped[datetime]
    made_by: Mapped[str] = mapped_column(server_default="")
    note: Mapped[str] = mapped_column(server_default="")
    condition_ids: Mapped[list[int]]
    condition_limits: Mapped[Json] = mapped_column(server_default=text("'{}'::jsonb"))
    excluded: Mapped[list[list[int]]] = mapped_column(server_default=text("'[]'::jsonb"))
    document: Mapped[Json | None]
    plan: Mapped[Plan] = relationship()
    cases: Mapped[list["Case"]] = relationship(order_by="Case.position", back_populates="revision")


class Case(Base):
    """A signal through a setting, with limits; the fingerprint finds its reference across revisions.

    `against` is what its renders are laid over: their approved references, or the signal itself.
    """

    __tablename__ = "case"
    __table_args__ = (
        UniqueConstraint("revision_id", "position"),
        CheckConstraint("against IN ('reference', 'signal')", name="against"),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("plan_revision.id"))
    position: Mapped[int]
    signal_id: Mapped[int] = mapped_column(ForeignKey("signal.id"))
    setting_id: Mapped[int] = mapped_column(ForeignKey("setting.id"))
    fingerprint: Mapped[str]
    limits: Mapped[Json]
    takes: Mapped[int] = mapped_column(server_default="1")
    against: Mapped[Against] = mapped_column(Text, default="reference", server_default="reference")
    revision: Mapped[PlanRevision] = relationship(back_populates="cases")
    signal: Mapped[Signal] = relationship()
    setting: Mapped[Setting] = relationship()


class Search(Base):
    """The search for the first build that differs: between one that passed and one that did not."""

    __tablename__ = "search"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    case_id: Mapped[int] = mapped_column(ForeignKey("case.id"))
    condition_id: Mapped[int] = mapped_column(ForeignKey("condition.id"))
    good_build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    bad_build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    started_by: Mapped[str]
    started_at: Mapped[datetime]
    case: Mapped["Case"] = relationship()
    condition: Mapped["Condition"] = relationship()
    good_build: Mapped["Build"] = relationship(foreign_keys=[good_build_id])
    bad_build: Mapped["Build"] = relationship(foreign_keys=[bad_build_id])


class Run(Base):
    """One execution of a plan's revision on a build; a greater priority is rendered first.

    One of a search has a single cell, and stands in no list of runs. A run that is `forced` renders everything; any
    other takes renders over that nothing has changed since.
    """

    __tablename__ = "run"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("plan_revision.id"))
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    requested_by: Mapped[str]
    requested_at: Mapped[datetime]
    priority: Mapped[int] = mapped_column(server_default="0")
    forced: Mapped[bool] = mapped_column(server_default=text("false"))
    stopped_at: Mapped[datetime | None]
    stopped_by: Mapped[str | None]
    search_id: Mapped[int | None] = mapped_column(ForeignKey("search.id"), index=True)
    revision: Mapped[PlanRevision] = relationship()
    build: Mapped[Build] = relationship()


class Content(Base):
    """Distinct audio, addressed by the SHA-256 of its format and samples."""

    __tablename__ = "content"
    sha256: Mapped[str] = mapped_column(primary_key=True)
    rate: Mapped[int]
    channels: Mapped[int]
    frames: Mapped[int] = mapped_column(BigInteger)
    encoding: Mapped[str]
    chunk_frames: Mapped[int]


class Chunk(Base):
    """A stretch of content; stored so that a byte range is read without the whole."""

    __tablename__ = "chunk"
    sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[bytes]


class PeakLevel(Base):
    """One resolution of a waveform, of content or of the difference of an analysis."""

    __tablename__ = "peak_level"
    owner: Mapped[str] = mapped_column(primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    bins: Mapped[int]
    data: Mapped[bytes]


class Analysis(Base):
    """What was found for two contents under given options; found once, however many cells share it.

    `causes` is what explains the difference, `explanation` the same in words; `side_readings` has the levels of each
    side by itself.
    """

    __tablename__ = "analysis"
    key: Mapped[str] = mapped_column(primary_key=True)
    reference_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    render_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    options: Mapped[Json]
    readings: Mapped[list[Json]]
    alignment: Mapped[Json]
    same_length: Mapped[bool]
    spectra: Mapped[Json] = mapped_column(deferred=True)
    curves: Mapped[list[Json]] = mapped_column(server_default=text("'[]'::jsonb"), deferred=True)
    explanation: Mapped[str] = mapped_column(server_default="")
    causes: Mapped[list[Json]] = mapped_column(server_default=text("'[]'::jsonb"))
    side_readings: Mapped[Json] = mapped_column(server_default=text("'{}'::jsonb"), deferred=True)
    created_at: Mapped[datetime]


class Render(Base):
    """The audio that one case under one condition gave, and what it took.

    `key` is the digest of all that it depends on; none where a part of that is not known.
    """

    __tablename__ = "render"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    key: Mapped[str | None] = mapped_column(index=True)
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    claimed_latency: Mapped[int | None]
    wall_seconds: Mapped[float]
    cpu_seconds: Mapped[float]
    readings: Mapped[list[Json]]
    curves: Mapped[list[Json]] = mapped_column(server_default=text("'[]'::jsonb"), deferred=True)
    rendered_at: Mapped[datetime]
    log: Mapped[str] = mapped_column(server_default="")
    content: Mapped[Content] = relationship()


class Take(Base):
    """A further render of the same cell, to tell how far the effect repeats; the render itself is the first take."""

    __tablename__ = "take"
    render_id: Mapped[int] = mapped_column(ForeignKey("render.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))


class Act(Base):
    """Something a person did in one go, and can undo in one go."""

    __tablename__ = "act"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    kind: Mapped[str]
    who: Mapped[str]
    at: Mapped[datetime]
    why: Mapped[str]
    undone_at: Mapped[datetime | None]
    undone_by: Mapped[str | None]


class Decision(Base):
    """What a person said of a cell, and of its case and condition in other runs as far as the kind of it reaches.

    `covers` names the measures that were broken when it was decided: a waiver holds for no others.
    """

    __tablename__ = "decision"
    __table_args__ = (
        CheckConstraint("kind IN ('accepted', 'fault', 'waived')", name="kind"),
        CheckConstraint("kind <> 'waived' OR until IS NOT NULL", name="waiver_ends"),
        Index("ix_decision_place", "effect_id", "fingerprint", "condition_id"),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    act_id: Mapped[int] = mapped_column(ForeignKey("act.id"), index=True)
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id"), index=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    fingerprint: Mapped[str]
    condition_id: Mapped[int] = mapped_column(ForeignKey("condition.id"))
    kind: Mapped[str]
    ticket: Mapped[str]
    until: Mapped[date | None]
    covers: Mapped[list[str]]
    act: Mapped[Act] = relationship()


class Reference(Base):
    """The approved render of a case under a condition; one that is not retired is current."""

    __tablename__ = "reference"
    __table_args__ = (
        Index(
            "uq_reference_current",
            "effect_id",
            "fingerprint",
            "condition_id",
            unique=True,
            postgresql_where=text("retired_at IS NULL"),
        ),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    fingerprint: Mapped[str]
    condition_id: Mapped[int] = mapped_column(ForeignKey("condition.id"))
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id"))
    render_id: Mapped[int] = mapped_column(ForeignKey("render.id"))
    act_id: Mapped[int] = mapped_column(ForeignKey("act.id"))
    replaces_id: Mapped[int | None] = mapped_column(ForeignKey("reference.id"))
    retired_at: Mapped[datetime | None]
    act: Mapped[Act] = relationship()
    render: Mapped[Render] = relationship()
    condition: Mapped[Condition] = relationship()


class Cell(Base):
    """One case under one condition in a run: what was rendered, against what it was laid, and the verdict.

    `broken` names the measures that broke their limits, worst first; `measured` has the readings of all channels
    together by measure, for sheets and trends; `reused` tells that the render is of an earlier run; `rules` is the
    version of the rules that it was judged by.
    """

    __tablename__ = "cell"
    __table_args__ = (
        UniqueConstraint("run_id", "case_id", "condition_id"),
        CheckConstraint("state IN ('waiting', 'rendering', 'analysing', 'done', 'failed')", name="state"),
        CheckConstraint("verdict IN ('Pass', 'Changed', 'Fail', 'No reading', 'Waiting')", name="verdict"),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id"), index=True)
    case_id: Mapped[int] = mapped_column(ForeignKey("case.id"))
    condition_id: Mapped[int] = mapped_column(ForeignKey("condition.id"))
    state: Mapped[str] = mapped_column(default="waiting")
    verdict: Mapped[str] = mapped_column(default="Waiting")
    why: Mapped[str] = mapped_column(default="")
    ink: Mapped[float] = mapped_column(default=0.0)
    unfit: Mapped[bool] = mapped_column(default=False)
    broken: Mapped[list[str]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    measured: Mapped[Json] = mapped_column(default=dict, server_default=text("'{}'::jsonb"))
    reused: Mapped[bool] = mapped_column(default=False, server_default=text("false"))
    attempts: Mapped[int] = mapped_column(default=0)
    log: Mapped[str] = mapped_column(server_default="")
    rules: Mapped[int] = mapped_column(default=0, server_default="0")
    render_id: Mapped[int | None] = mapped_column(ForeignKey("render.id"))
    reference_id: Mapped[int | None] = mapped_column(ForeignKey("reference.id", use_alter=True))
    analysis_key: Mapped[str | None] = mapped_column(ForeignKey("analysis.key"))
    run: Mapped[Run] = relationship()
    case: Mapped[Case] = relationship()
    condition: Mapped[Condition] = relationship()
    render: Mapped[Render | None] = relationship()
    reference: Mapped[Reference | None] = relationship(foreign_keys=[reference_id])
    analysis: Mapped[Analysis | None] = relationship()


class Delivery(Base):
    """What a machine that reaches the server alone has rendered for a cell, until it is measured."""

    __tablename__ = "delivery"
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id"), primary_key=True)
    contents: Mapped[list[str]]
    facts: Mapped[Json]


class Upload(Base):
    """A file that a person brought, by name, and the audio in it."""

    __tablename__ = "upload"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    file_sha256: Mapped[str]
    subtype: Mapped[str]
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    uploaded_at: Mapped[datetime]
    content: Mapped[Content] = relationship()


class KitFile(Base):
    """A file that came back from a render kit, and the cell it was taken for; none while it is doubtful.

    `named_for` is the cell that its name or a manifest speaks of, `named_by` which of them.
    """

    __tablename__ = "kit_file"
    __table_args__ = (CheckConstraint("state IN ('received', 'matched', 'doubtful', 'unknown')", name="state"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id"), index=True)
    name: Mapped[str]
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    state: Mapped[str]
    why: Mapped[str]
    cell_id: Mapped[int | None] = mapped_column(ForeignKey("cell.id"))
    candidates: Mapped[list[int]]
    named_for: Mapped[int | None] = mapped_column(ForeignKey("cell.id"))
    named_by: Mapped[str]
    take: Mapped[int]
    received_at: Mapped[datetime]
    content: Mapped[Content] = relationship()


class Pair(Base):
    """Two uploaded files laid side by side, outside any plan."""

    __tablename__ = "pair"
    __table_args__ = (CheckConstraint("state IN ('analysing', 'done', 'failed')", name="state"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    reference_id: Mapped[int] = mapped_column(ForeignKey("upload.id"))
    render_id: Mapped[int] = mapped_column(ForeignKey("upload.id"))
    options: Mapped[Json]
    state: Mapped[str] = mapped_column(default="analysing")
    why: Mapped[str] = mapped_column(default="")
    analysis_key: Mapped[str | None] = mapped_column(ForeignKey("analysis.key"))
    created_at: Mapped[datetime]
    reference: Mapped[Upload] = relationship(foreign_keys=[reference_id])
    render: Mapped[Upload] = relationship(foreign_keys=[render_id])
    analysis: Mapped[Analysis | None] = relationship()


class Event(Base):
    """What changed a verdict: written once, and kept from change by a trigger."""

    __tablename__ = "event"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    at: Mapped[datetime]
    who: Mapped[str]
    what: Mapped[str]
    detail: Mapped[Json]
