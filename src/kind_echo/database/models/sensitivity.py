"""What planted faults were found to do."""

from datetime import datetime

from sqlalchemy import Identity
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from kind_echo.core.sensitivity.documents import CellAsked, ClosingAsked, FoundDocument
from kind_echo.database.models.base import Base


class Sensitivity(Base):
    """What faults are noticed in one approved render under given limits; found once, however many plans ask.

    `asked` is all that it depends on, and `key` its digest; `found` is None until a worker has found it, and `why` says
    why that could not be.
    """

    __tablename__ = "sensitivity"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    key: Mapped[str] = mapped_column(unique=True)
    asked: Mapped[CellAsked | ClosingAsked] = mapped_column(JSONB)
    found: Mapped[list[FoundDocument] | None]
    seconds: Mapped[float] = mapped_column(default=0.0, server_default="0")
    why: Mapped[str] = mapped_column(default="", server_default="")
    asked_at: Mapped[datetime]
