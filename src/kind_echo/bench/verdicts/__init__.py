"""The rules by which readings and limits become a verdict, and what renders share."""

from kind_echo.bench.verdicts.rules import (
    INK_AT_LIMIT,
    ITS_SIGNAL,
    RULES_VERSION,
    THE_REFERENCE,
    Verdict,
    figure,
    ink_of,
    judge_cell,
)
from kind_echo.bench.verdicts.symptoms import NOT_RENDERED, Examined, Symptom, judged_for, symptoms_of

__all__ = [
    "INK_AT_LIMIT",
    "ITS_SIGNAL",
    "NOT_RENDERED",
    "RULES_VERSION",
    "THE_REFERENCE",
    "Examined",
    "Symptom",
    "Verdict",
    "figure",
    "ink_of",
    "judge_cell",
    "judged_for",
    "symptoms_of",
]
