"""Sets of a person's own files: one table of them, with no plan."""

from datetime import datetime

from sqlalchemy import ForeignKey, Identity, Text, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.core.registry.documents import CurveDocument, LimitDocument, ReadingDocument
from kind_echo.database.models.audio import Pair, Upload
from kind_echo.database.models.base import Base, Json
from kind_echo.database.states import FileRole, FileState, one_of


class FileSet(Base):
    """Files that are measured alike; `options` says how, and `revision` counts how often that has changed."""

    __tablename__ = "file_set"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    name: Mapped[str]
    note: Mapped[str] = mapped_column(server_default="")
    options: Mapped[Json]
    columns: Mapped[list[str]] = mapped_column(server_default=text("'[]'::jsonb"))
    limits: Mapped[dict[str, LimitDocument]] = mapped_column(server_default=text("'{}'::jsonb"))
    revision: Mapped[int] = mapped_column(server_default="1")
    brought_by: Mapped[str] = mapped_column(server_default="")
    created_at: Mapped[datetime]
    files: Mapped[list["SetFile"]] = relationship(
        order_by="SetFile.id", cascade="all, delete-orphan", passive_deletes=True, back_populates="set"
    )


class SetFile(Base):
    """A file of a set, and what was found of it by itself and, once it was compared, against the reference."""

    __tablename__ = "set_file"
    __table_args__ = (
        one_of("role", FileRole),
        one_of("state", FileState),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    set_id: Mapped[int] = mapped_column(ForeignKey("file_set.id", ondelete="CASCADE"), index=True)
    upload_id: Mapped[int] = mapped_column(ForeignKey("upload.id"), index=True)
    folder: Mapped[str] = mapped_column(server_default="")
    role: Mapped[FileRole] = mapped_column(Text, server_default="file")
    state: Mapped[FileState] = mapped_column(Text, server_default="measuring")
    why: Mapped[str] = mapped_column(server_default="")
    readings: Mapped[list[ReadingDocument]] = mapped_column(server_default=text("'[]'::jsonb"))
    curves: Mapped[list[CurveDocument]] = mapped_column(server_default=text("'[]'::jsonb"), deferred=True)
    pair_id: Mapped[int | None] = mapped_column(ForeignKey("pair.id", ondelete="SET NULL"), index=True)
    set: Mapped[FileSet] = relationship(back_populates="files")
    upload: Mapped[Upload] = relationship()
    pair: Mapped[Pair | None] = relationship()
