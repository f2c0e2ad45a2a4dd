"""Cells, and what is on its way to them."""

import json
from datetime import datetime

from sqlalchemy import ColumnElement, ForeignKey, Identity, Index, Text, UniqueConstraint, and_, text
from sqlalchemy.ext.hybrid import hybrid_property
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.verdicts.documents import VerdictDocument
from kind_echo.core.verdicts.verdict import VerdictName, needs_review
from kind_echo.database.models.audio import Analysis, Content
from kind_echo.database.models.base import Base, Json
from kind_echo.database.models.decisions import Reference
from kind_echo.database.models.machines import Condition
from kind_echo.database.models.plans import Case
from kind_echo.database.models.renders import Render
from kind_echo.database.models.runs import Run
from kind_echo.database.states import FINISHED, CellState, KitFileState, one_of

_UNDER_WAY = '{"ground": "under way", "other": "the reference", "found": []}'


class Cell(Base):
    """One case under one condition in a run: what was rendered, against what it was laid, and the verdict.

    `facts` is what the verdict rests on, `why` the sentence that is made of it; `broken` names the measures that broke
    their limits, worst first; `measured` has the readings of all channels together by measure, for sheets and trends;
    `reused` tells that the render is of an earlier run; `rules` is the version of the rules that it was judged by.
    """

    __tablename__ = "cell"
    __table_args__ = (
        UniqueConstraint("run_id", "case_id", "condition_id"),
        one_of("state", CellState),
        one_of("verdict", VerdictName),
        Index("ix_cell_run_id_state_verdict", "run_id", "state", "verdict"),  # what runs are counted by
        Index("ix_cell_not_passed", "run_id", postgresql_where=text("verdict <> 'Pass'")),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id"))
    case_id: Mapped[int] = mapped_column(ForeignKey("case.id"))
    condition_id: Mapped[int] = mapped_column(ForeignKey("condition.id"))
    state: Mapped[CellState] = mapped_column(Text, default="waiting")
    verdict: Mapped[VerdictName] = mapped_column(Text, default="Waiting")
    why: Mapped[str] = mapped_column(default="")
    facts: Mapped[VerdictDocument] = mapped_column(server_default=_UNDER_WAY, default=lambda: json.loads(_UNDER_WAY))
    ink: Mapped[float] = mapped_column(default=0.0)
    unfit: Mapped[bool] = mapped_column(default=False)
    broken: Mapped[list[str]] = mapped_column(default=list, server_default=text("'[]'::jsonb"))
    measured: Mapped[Json] = mapped_column(default=dict, server_default=text("'{}'::jsonb"))
    reused: Mapped[bool] = mapped_column(default=False, server_default=text("false"))
    attempts: Mapped[int] = mapped_column(default=0)
    log: Mapped[str] = mapped_column(server_default="")
    rules: Mapped[int] = mapped_column(default=0, server_default="0")
    render_id: Mapped[int | None] = mapped_column(ForeignKey("render.id"), index=True)
    reference_id: Mapped[int | None] = mapped_column(ForeignKey("reference.id", use_alter=True))
    analysis_key: Mapped[str | None] = mapped_column(ForeignKey("analysis.key"))
    run: Mapped[Run] = relationship()
    case: Mapped[Case] = relationship()
    condition: Mapped[Condition] = relationship()
    render: Mapped[Render | None] = relationship()
    reference: Mapped[Reference | None] = relationship(foreign_keys=[reference_id])
    analysis: Mapped[Analysis | None] = relationship()

    @hybrid_property
    def finished(self) -> bool:
        """Nothing of it is under way."""
        return self.state in FINISHED

    @finished.inplace.expression
    @classmethod
    def _is_finished(cls) -> ColumnElement[bool]:
        return cls.state.in_(FINISHED)

    @hybrid_property
    def asks_for_review(self) -> bool:
        """A person has to look at it unless a decision holds."""
        return needs_review(self.verdict, finished=self.finished, decided=False)

    @asks_for_review.inplace.expression
    @classmethod
    def _asks(cls) -> ColumnElement[bool]:
        return and_(cls.state.in_(FINISHED), cls.verdict != "Pass")

    @hybrid_property
    def fit_for_first_reference(self) -> bool:
        """Its render may become the first reference of its place, which has none."""
        return (
            self.state == "done"
            and self.reference_id is None
            and not self.unfit
            and self.verdict in ("Waiting", "Pass")
        )

    @fit_for_first_reference.inplace.expression
    @classmethod
    def _is_fit(cls) -> ColumnElement[bool]:
        none_yet = and_(cls.state == "done", cls.reference_id.is_(None))
        return and_(none_yet, ~cls.unfit, cls.verdict.in_(("Waiting", "Pass")))


class Delivery(Base):
    """What a machine that reaches the server alone has rendered for a cell, until it is measured."""

    __tablename__ = "delivery"
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id"), primary_key=True)
    contents: Mapped[list[str]]
    facts: Mapped[Json]


class KitFile(Base):
    """A file that came back from a render kit, and the cell it was taken for; none while it is doubtful.

    `named_for` is the cell that its name or a manifest speaks of, `named_by` which of them.
    """

    __tablename__ = "kit_file"
    __table_args__ = (one_of("state", KitFileState),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id"), index=True)
    name: Mapped[str]
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    state: Mapped[KitFileState] = mapped_column(Text)
    why: Mapped[str]
    cell_id: Mapped[int | None] = mapped_column(ForeignKey("cell.id"))
    candidates: Mapped[list[int]]
    named_for: Mapped[int | None] = mapped_column(ForeignKey("cell.id"))
    named_by: Mapped[str]
    take: Mapped[int]
    received_at: Mapped[datetime]
    content: Mapped[Content] = relationship()
