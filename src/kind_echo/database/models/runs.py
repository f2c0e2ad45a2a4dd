"""Runs of plans, and searches for the first build that differs."""

from datetime import datetime

from sqlalchemy import ForeignKey, Identity, Index, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.database.models.base import Base
from kind_echo.database.models.effects import Build
from kind_echo.database.models.machines import Condition
from kind_echo.database.models.plans import Case, PlanRevision


class Run(Base):
    """One execution of a plan's revision on a build; a greater priority is rendered first.

    One of a search has a single cell, and stands in no list of runs. A run that is `forced` renders everything; any
    other takes renders over that nothing has changed since. `artefact` is what the build was made of, as whoever
    submitted it says; empty where nobody said. `told_at` is when its end was told to those who asked for it.
    """

    __tablename__ = "run"
    __table_args__ = (Index("ix_run_untold", "id", postgresql_where=text("told_at IS NULL")),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    revision_id: Mapped[int] = mapped_column(ForeignKey("plan_revision.id"))
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id"))
    requested_by: Mapped[str]
    requested_at: Mapped[datetime]
    priority: Mapped[int] = mapped_column(server_default="0")
    forced: Mapped[bool] = mapped_column(server_default=text("false"))
    artefact: Mapped[str] = mapped_column(server_default="")
    stopped_at: Mapped[datetime | None]
    stopped_by: Mapped[str | None]
    archived_at: Mapped[datetime | None]
    told_at: Mapped[datetime | None]
    search_id: Mapped[int | None] = mapped_column(ForeignKey("search.id"), index=True)
    revision: Mapped[PlanRevision] = relationship()
    build: Mapped[Build] = relationship()


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
