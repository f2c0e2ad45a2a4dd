"""What all tables share."""

from datetime import datetime
from typing import Any

from sqlalchemy import DateTime, Double, LargeBinary, MetaData, Text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase

from kind_echo.core.audio.documents import SpectrumDocument
from kind_echo.core.causes.cause import CauseDocument
from kind_echo.core.comparison.documents import PlaceDocument
from kind_echo.core.listening.documents import SideDocument, SlotDocument
from kind_echo.core.registry.documents import CurveDocument, LimitDocument, ReadingDocument
from kind_echo.core.registry.offer_documents import OfferDocument, ParameterDocument
from kind_echo.core.sensitivity.documents import FoundDocument
from kind_echo.core.verdicts.documents import VerdictDocument

Json = dict[str, Any]

_DOCUMENTS: tuple[Any, ...] = (
    list[ReadingDocument], dict[str, list[ReadingDocument]], list[CurveDocument], list[CauseDocument],
    list[PlaceDocument], dict[str, SpectrumDocument], VerdictDocument, dict[str, LimitDocument],
    dict[str, dict[str, LimitDocument]], list[ParameterDocument], list[OfferDocument],
    list[FoundDocument], dict[str, float], list[SideDocument], list[SlotDocument],
)  # fmt: skip


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
        **dict.fromkeys(_DOCUMENTS, JSONB),
        list[int]: JSONB,
        list[list[int]]: JSONB,
        list[list[str]]: JSONB,
        list[str]: JSONB,
        bytes: LargeBinary,
    }
