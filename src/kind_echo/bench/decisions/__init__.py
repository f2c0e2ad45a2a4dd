"""References, verdicts as they are kept, and what people decide."""

from kind_echo.bench.decisions.deciding import (
    Standing,
    all_decisions,
    decide,
    last_act_number,
    standings,
    undecided,
    undecided_cells,
)
from kind_echo.bench.decisions.judging import judge_as_before, judge_now, limit_documents, limits_of
from kind_echo.bench.decisions.of_builds import (
    Approvable,
    approve_build,
    references_by_build,
    renders_of_build,
)
from kind_echo.bench.decisions.references import (
    approve,
    count_made,
    current_reference,
    current_references,
    history,
    latest_act,
    touches_references,
    undo,
    version_of,
)
from kind_echo.database.models import Act, Reference

__all__ = [
    "Act",
    "Approvable",
    "Reference",
    "Standing",
    "all_decisions",
    "approve",
    "approve_build",
    "count_made",
    "current_reference",
    "current_references",
    "decide",
    "history",
    "judge_as_before",
    "judge_now",
    "last_act_number",
    "latest_act",
    "limit_documents",
    "limits_of",
    "references_by_build",
    "renders_of_build",
    "standings",
    "touches_references",
    "undecided",
    "undecided_cells",
    "undo",
    "version_of",
]
