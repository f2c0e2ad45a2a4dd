"""Pairs: analysing them, their readings as documents, their audio by address."""

from kind_echo.bench.comparisons.addresses import draw, open_address, read_samples
from kind_echo.bench.comparisons.analysing import analyse, analysis_key, kept_analysis, options_for, spectrum_document
from kind_echo.bench.comparisons.documents import (
    curve_documents,
    kept_reading,
    limit_document,
    limit_from,
    loudness_curves,
    reading_document,
    reading_from,
)

__all__ = [
    "analyse",
    "analysis_key",
    "curve_documents",
    "draw",
    "kept_analysis",
    "kept_reading",
    "limit_document",
    "limit_from",
    "loudness_curves",
    "open_address",
    "options_for",
    "read_samples",
    "reading_document",
    "reading_from",
    "spectrum_document",
]
