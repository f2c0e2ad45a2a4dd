"""What people decided, references, and the log."""

from datetime import date, datetime

from sqlalchemy import CheckConstraint, ForeignKey, Identity, Index, Text, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.database.models.base import Base, Json
from kind_echo.database.models.machines import Condition
from kind_echo.database.models.renders import Render
from kind_echo.database.states import DecisionKind, one_of


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

    `covers` names the measures that were broken when it was decided: a waiver holds for no others. `ending_told_at` is
    when it was told that it ends soon.
    """

    __tablename__ = "decision"
    __table_args__ = (
        one_of("kind", DecisionKind),
        CheckConstraint("kind <> 'waived' OR until IS NOT NULL", name="waiver_ends"),
        Index("ix_decision_place", "effect_id", "fingerprint", "condition_id"),
        Index("ix_decision_until", "until", postgresql_where=text("until IS NOT NULL AND ending_told_at IS NULL")),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    act_id: Mapped[int] = mapped_column(ForeignKey("act.id"), index=True)
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id"), index=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    fingerprint: Mapped[str]
    condition_id: Mapped[int] = mapped_column(ForeignKey("condition.id"))
    kind: Mapped[DecisionKind] = mapped_column(Text)
    ticket: Mapped[str]
    until: Mapped[date | None]
    covers: Mapped[list[str]]
    ending_told_at: Mapped[datetime | None]
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


class Event(Base):
    """What changed a verdict: written once, and kept from change by a trigger."""

    __tablename__ = "event"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    at: Mapped[datetime]
    who: Mapped[str]
    what: Mapped[str]
    detail: Mapped[Json]
