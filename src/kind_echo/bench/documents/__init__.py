"""Readings, limits, verdicts and curves as JSON; no database is needed for it."""

from kind_echo.bench.documents.pairs import ComparedDocument, MeasuredDocument, PairDocument, WentInDocument
from kind_echo.bench.documents.readings import (
    curve_documents,
    kept_reading,
    limit_document,
    limit_from,
    loudness_curves,
    reading_document,
    reading_from,
    verdict_document,
    verdict_from,
    whole_curves,
)

__all__ = [
    "ComparedDocument",
    "MeasuredDocument",
    "PairDocument",
    "WentInDocument",
    "curve_documents",
    "kept_reading",
    "limit_document",
    "limit_from",
    "loudness_curves",
    "reading_document",
    "reading_from",
    "verdict_document",
    "verdict_from",
    "whole_curves",
]
