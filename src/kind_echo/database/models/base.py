"""What all tables share."""

from datetime import datetime
from typing import Any

from sqlalchemy import DateTime, Double, LargeBinary, MetaData, Text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase

Json = dict[str, Any]


class Base(DeclarativeBase):
    """Base of all tables; every time has its zone."""

    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "ck": "ck_%(table_name)s_%(constraint_name)s",
            "fk": "fk_%(table_name)s_%(column_0_N_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {  # noqa: RUF012 - SQLAlchemy's own protocol
        datetime: DateTime(timezone=True),
        str: Text,
        float: Double,
        Json: JSONB,
        list[Json]: JSONB,
        list[int]: JSONB,
        list[list[int]]: JSONB,
        list[list[str]]: JSONB,
        list[str]: JSONB,
        bytes: LargeBinary,
    }
