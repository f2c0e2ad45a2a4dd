"""A run as one bundle that whoever doubts a number can compute again."""

from kind_echo.bench.evidence.bundling import Kept, evidence_name, write_evidence
from kind_echo.bench.evidence.outcomes import outcomes_of

__all__ = ["Kept", "evidence_name", "outcomes_of", "write_evidence"]
