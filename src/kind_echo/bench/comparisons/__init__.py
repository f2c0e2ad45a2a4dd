"""Pairs: analysing them, and their readings as documents."""

from kind_echo.bench.comparisons.analysing import (
    analyse,
    analysis_key,
    find_analysis,
    kept_analysis,
    law_signal,
    options_for,
    sides,
    spectrum_document,
    waveform_owner,
)
from kind_echo.database.models import Analysis, Pair

__all__ = [
    "Analysis",
    "Pair",
    "analyse",
    "analysis_key",
    "find_analysis",
    "kept_analysis",
    "law_signal",
    "options_for",
    "sides",
    "spectrum_document",
    "waveform_owner",
]
