"""Audio by its content, uploaded files, and pairs that were analysed."""

from datetime import datetime

from sqlalchemy import BigInteger, ForeignKey, Identity, Index, Text, func, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.audio.documents import SpectrumDocument
from kind_echo.core.causes.cause import CauseDocument
from kind_echo.core.comparison.documents import PlaceDocument
from kind_echo.core.registry.documents import CurveDocument, ReadingDocument
from kind_echo.database.models.base import Base, Json
from kind_echo.database.states import PairState, one_of


class Content(Base):
    """Distinct audio, addressed by the SHA-256 of its format and samples.

    `bytes` is the space that its samples take as they are kept, and `brought_by` who uploaded them first, if anybody
    did. `object_key` names the object that holds them; without one they are in the database. Of audio that retention
    dropped nothing is left but this row and its waveform. `unused_since` is when it was found that nothing refers to
    it any more; it goes a while after that.
    """

    __tablename__ = "content"
    __table_args__ = (
        Index("ix_content_brought_by", "brought_by", postgresql_where=text("brought_by <> ''")),
        Index("ix_content_unused_since", "unused_since", postgresql_where=text("unused_since IS NOT NULL")),
    )
    sha256: Mapped[str] = mapped_column(primary_key=True)
    rate: Mapped[int]
    channels: Mapped[int]
    frames: Mapped[int] = mapped_column(BigInteger)
    encoding: Mapped[str]
    chunk_frames: Mapped[int]
    bytes: Mapped[int] = mapped_column(BigInteger, server_default="0")
    brought_by: Mapped[str] = mapped_column(server_default="")
    object_key: Mapped[str | None]
    dropped_at: Mapped[datetime | None]
    unused_since: Mapped[datetime | None]


class Chunk(Base):
    """A stretch of content, packed by itself, so that a range is read without the whole.

    Its bytes are `data`, or stand in the content's object from `start` on.
    """

    __tablename__ = "chunk"
    sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    packing: Mapped[str] = mapped_column(server_default="none")
    start: Mapped[int] = mapped_column(BigInteger, server_default="0")
    length: Mapped[int]
    data: Mapped[bytes | None]


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
    side by itself, `places` where to look first, of the difference and of the render.
    """

    __tablename__ = "analysis"
    key: Mapped[str] = mapped_column(primary_key=True)
    reference_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    render_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    options: Mapped[Json]
    readings: Mapped[list[ReadingDocument]]
    alignment: Mapped[Json]
    same_length: Mapped[bool]
    spectra: Mapped[dict[str, SpectrumDocument]] = mapped_column(deferred=True)
    curves: Mapped[list[CurveDocument]] = mapped_column(server_default=text("'[]'::jsonb"), deferred=True)
    explanation: Mapped[str] = mapped_column(server_default="")
    causes: Mapped[list[CauseDocument]] = mapped_column(server_default=text("'[]'::jsonb"))
    side_readings: Mapped[dict[str, list[ReadingDocument]]] = mapped_column(
        server_default=text("'{}'::jsonb"), deferred=True
    )
    places: Mapped[list[PlaceDocument]] = mapped_column(server_default=text("'[]'::jsonb"), deferred=True)
    created_at: Mapped[datetime] = mapped_column(default=func.clock_timestamp())


class Upload(Base):
    """A file that a person brought, by name, and the audio in it; `brought_by` is empty where nobody knows."""

    __tablename__ = "upload"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    file_sha256: Mapped[str]
    subtype: Mapped[str]
    content_sha256: Mapped[str] = mapped_column(ForeignKey("content.sha256"))
    uploaded_at: Mapped[datetime] = mapped_column(default=func.clock_timestamp())
    brought_by: Mapped[str] = mapped_column(server_default="")
    content: Mapped[Content] = relationship()


class Pair(Base):
    """Two uploaded files laid side by side, outside any plan."""

    __tablename__ = "pair"
    __table_args__ = (one_of("state", PairState),)
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    reference_id: Mapped[int] = mapped_column(ForeignKey("upload.id"))
    render_id: Mapped[int] = mapped_column(ForeignKey("upload.id"))
    options: Mapped[Json]
    state: Mapped[PairState] = mapped_column(Text, default="analysing")
    why: Mapped[str] = mapped_column(default="")
    analysis_key: Mapped[str | None] = mapped_column(ForeignKey("analysis.key"))
    created_at: Mapped[datetime] = mapped_column(default=func.clock_timestamp())
    reference: Mapped[Upload] = relationship(foreign_keys=[reference_id])
    render: Mapped[Upload] = relationship(foreign_keys=[render_id])
    analysis: Mapped[Analysis | None] = relationship()
