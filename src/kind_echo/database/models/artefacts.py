"""What builds are made of, as build servers upload it: plug-ins in files, kept in pieces by their content."""

from datetime import datetime

from sqlalchemy import BigInteger, CheckConstraint, ForeignKey, Identity, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from kind_echo.database.models.base import Base
from kind_echo.database.models.effects import Build


class Artefact(Base):
    """The plug-in that a build is, for one standard on one system; `name` is its file's, `size` in bytes as uploaded.

    `signed_by` is the fingerprint of the key whose signature was found good; none where the server asks for none.
    """

    __tablename__ = "artefact"
    __table_args__ = (
        UniqueConstraint("build_id", "standard", "system"),
        CheckConstraint("system IN ('linux', 'macos', 'windows')", name="system"),
    )
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    build_id: Mapped[int] = mapped_column(ForeignKey("build.id", ondelete="CASCADE"))
    standard: Mapped[str]
    system: Mapped[str]
    name: Mapped[str]
    sha256: Mapped[str] = mapped_column("digest", index=True)
    size: Mapped[int] = mapped_column(BigInteger)
    signed_by: Mapped[str | None]
    uploaded_at: Mapped[datetime]
    uploaded_by: Mapped[str]
    build: Mapped[Build] = relationship()


class ArtefactPiece(Base):
    """A part of the bytes of an artefact; several builds may be made of the same."""

    __tablename__ = "artefact_piece"
    sha256: Mapped[str] = mapped_column("digest", primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[bytes]
