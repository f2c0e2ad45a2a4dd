"""What keepers say of the space that audio may take."""

from datetime import datetime

from sqlalchemy import BigInteger, CheckConstraint
from sqlalchemy.orm import Mapped, mapped_column

from kind_echo.database.models.base import Base


class StorageRule(Base):
    """The one rule of this installation; where a value is none, nothing is limited by it.

    `keep_runs` is how many of the newest runs of a plan keep the audio of renders that pass; `person_bytes` and
    `all_bytes` are how much one person's files, and all audio, may take; `applied_at` is when audio was last dropped.
    """

    __tablename__ = "storage_rule"
    __table_args__ = (CheckConstraint("id = 1", name="only_one"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    keep_runs: Mapped[int | None]
    person_bytes: Mapped[int | None] = mapped_column(BigInteger)
    all_bytes: Mapped[int | None] = mapped_column(BigInteger)
    changed_by: Mapped[str]
    changed_at: Mapped[datetime | None]
    applied_at: Mapped[datetime | None]
