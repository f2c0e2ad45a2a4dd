"""The shapes in which a verdict's facts are kept as JSON."""

from typing import NotRequired, TypedDict

from kind_echo.core.registry.documents import LimitDocument, ReadingDocument
from kind_echo.core.verdicts.verdict import Ground


class JudgedDocument(TypedDict):
    """A reading, and the limit that it was held to."""

    reading: ReadingDocument
    limit: NotRequired[LimitDocument]


class VerdictDocument(TypedDict):
    """What a verdict rests on, beside its name and ink."""

    ground: Ground
    other: str
    found: list[JudgedDocument]
    why: NotRequired[str]
