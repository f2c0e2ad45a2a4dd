"""Effects, their builds and settings, and the signals that they are given."""

from datetime import datetime

from sqlalchemy import ColumnElement, ForeignKey, Identity, UniqueConstraint, func, text
from sqlalchemy.ext.hybrid import hybrid_property
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.registry.offer_documents import ParameterDocument
from kind_echo.core.signals import SignalDocument, Stimulus, stimulus_of
from kind_echo.database.models.base import Base, Json


class Effect(Base):
    """A product under test: what can be set, and what its renderer knows it by where that is not its name.

    `channels` lists how many it can be given; empty where that is not known. `offered_as` is the name that machines
    offer it by, where it was given another one here.
    """

    __tablename__ = "effect"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    description: Mapped[str]
    handle: Mapped[str] = mapped_column(server_default="")
    parameters: Mapped[list[ParameterDocument]] = mapped_column(server_default=text("'[]'::jsonb"))
    channels: Mapped[list[int]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    archived_at: Mapped[datetime | None]
    offered_as: Mapped[str | None]

    @hybrid_property
    def known_as(self) -> str:
        """The name that machines know it by."""
        return self.offered_as or self.name

    @known_as.inplace.expression
    @classmethod
    def _known_as(cls) -> ColumnElement[str]:
        return func.coalesce(cls.offered_as, cls.name)


class Build(Base):
    """One version of an effect; `position` is its order."""

    __tablename__ = "build"
    __table_args__ = (UniqueConstraint("effect_id", "version"), UniqueConstraint("effect_id", "position"))
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    version: Mapped[str]
    position: Mapped[int]
    note: Mapped[str]
    archived_at: Mapped[datetime | None]
    effect: Mapped[Effect] = relationship()

    @property
    def archived(self) -> bool:
        """Whether it stands in no list to choose from."""
        return self.archived_at is not None


class Setting(Base):
    """Named parameter values of an effect; of a sum of renders, those of each of its parts.

    With a preset, what renders begins from that state, and sets the values over it.

    `expected` is what an effect so set is to do, of any plan: see `bench.plans.expectations`.

    Plans that were written before it was renamed know it by one of its former names.
    """

    __tablename__ = "setting"
    __table_args__ = (UniqueConstraint("effect_id", "name"),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    effect_id: Mapped[int] = mapped_column(ForeignKey("effect.id"))
    name: Mapped[str]
    parameters: Mapped[Json]
    parts: Mapped[list[Json]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    former_names: Mapped[list[str]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    archived_at: Mapped[datetime | None]
    preset: Mapped[bytes | None] = mapped_column(deferred=True)
    preset_name: Mapped[str | None]
    preset_sha256: Mapped[str | None]
    expected: Mapped[Json | None]


class Signal(Base):
    """A stimulus: what is asked of the generator."""

    __tablename__ = "signal"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    request: Mapped[SignalDocument]

    @property
    def stimulus(self) -> Stimulus:
        """What it is. Raises BadParameter where it has a kind or a parameter that is not known any more."""
        return stimulus_of(self.request)
