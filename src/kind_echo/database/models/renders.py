"""Renders and their further takes."""

from datetime import datetime

from sqlalchemy import ForeignKey, Identity, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.registry.documents import CurveDocument, ReadingDocument
from kind_echo.database.models.audio import Content
from kind_echo.database.models.base import Base


class Render(Base):
    """The audio that one case under one condition gave, and what it took.

    `key` is the digest of all that it depends on; none where a part of that is not known. `measured_as_kept` tells that
    its readings are of the very samples that are kept, so that they come out again.
    """

    __tablename__ = "render"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    key: Mapped[str | None] = mapped_column(index=True)
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    claimed_latency: Mapped[int | None]
    wall_seconds: Mapped[float]
    cpu_seconds: Mapped[float]
    readings: Mapped[list[ReadingDocument]]
    curves: Mapped[list[CurveDocument]] = mapped_column(server_default=text("'[]'::jsonb"), deferred=True)
    rendered_at: Mapped[datetime]
    log: Mapped[str] = mapped_column(server_default="")
    measured_as_kept: Mapped[bool] = mapped_column(server_default=text("false"), default=False)
    content: Mapped[Content] = relationship()


class Take(Base):
    """A further render of the same cell, to tell how far the effect repeats; the render itself is the first take."""

    __tablename__ = "take"
    render_id: Mapped[int] = mapped_column(ForeignKey("render.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
