"""Pairs: analysing them, their readings as documents, their audio by address."""

from kind_echo.bench.comparisons.addresses import draw, map_levels, open_address, read_samples
from kind_echo.bench.comparisons.analysing import analyse, analysis_key, kept_analysis, options_for, spectrum_document

__all__ = [
    "analyse",
    "analysis_key",
    "draw",
    "kept_analysis",
    "map_levels",
    "open_address",
    "options_for",
    "read_samples",
    "spectrum_document",
]
