"""Plans, their revisions and the cases in them."""

from datetime import datetime

from sqlalchemy import ForeignKey, Identity, Text, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.registry.documents import LimitDocument
from kind_echo.database.models.base import Base, Json
from kind_echo.database.models.effects import Effect, Setting, Signal
from kind_echo.database.states import Against, one_of


class Plan(Base):
    """Cases × conditions for an effect; what it holds is in its revisions."""

    __tablename__ = "plan"
    __table_args__ = (UniqueConstraint("effect_id", "name"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    name: Mapped[str]
    archived_at: Mapped[datetime | None]
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
    condition_limits: Mapped[dict[str, dict[str, LimitDocument]]] = mapped_column(server_default=text("'{}'::jsonb"))
    excluded: Mapped[list[list[int]]] = mapped_column(server_default=text("'[]'::jsonb"))
    document: Mapped[Json | None]
    plan: Mapped[Plan] = relationship()
    cases: Mapped[list["Case"]] = relationship(order_by="Case.position", back_populates="revision")


class Case(Base):
    """A signal through a setting, with limits; the fingerprint finds its reference across revisions.

    `against` is what its renders are compared with: their approved references, or the signal itself. `expected` is the
    law that their levels are held against; `variation` what the host does otherwise from the second take on.
    """

    __tablename__ = "case"
    __table_args__ = (
        UniqueConstraint("revision_id", "position"),
        one_of("against", Against),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("plan_revision.id"))
    position: Mapped[int]
    signal_id: Mapped[int] = mapped_column(ForeignKey("signal.id"))
    setting_id: Mapped[int] = mapped_column(ForeignKey("setting.id"))
    fingerprint: Mapped[str]
    limits: Mapped[dict[str, LimitDocument]]
    takes: Mapped[int] = mapped_column(server_default="1")
    against: Mapped[Against] = mapped_column(Text, default="reference", server_default="reference")
    expected: Mapped[dict[str, float] | None]
    variation: Mapped[str] = mapped_column(default="", server_default="")
    revision: Mapped[PlanRevision] = relationship(back_populates="cases")
    # A sheet names both of every case: one by one they would be hundreds of questions.
    signal: Mapped[Signal] = relationship(lazy="joined", innerjoin=True)
    setting: Mapped[Setting] = relationship(lazy="joined", innerjoin=True)
