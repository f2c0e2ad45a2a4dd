"""What outputs for build servers tell of one thing that was checked, whether a pair of files or a cell of a run."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from kind_echo.core.verdicts.verdict import VerdictName
from kind_echo.wording.figures import counted

Status = Literal["pass", "changed", "fail", "no reading", "waiting", "waived", "error"]
STATUSES: tuple[Status, ...] = ("error", "fail", "no reading", "changed", "waiting", "waived", "pass")
"""Worst first."""

FAILING: dict[str, Status] = {
    "fail": "fail", "changed": "changed", "no-reading": "no reading", "waiting": "waiting",
}  # fmt: skip
"""What `--fail-on` takes."""

_STATUS: dict[VerdictName, Status] = {
    "Pass": "pass", "Changed": "changed", "Fail": "fail", "No reading": "no reading", "Waiting": "waiting",
}  # fmt: skip
_SAID: dict[Status, str] = {
    "pass": "passed", "changed": "changed", "fail": "failed", "no reading": "without a reading",
    "waiting": "waiting", "waived": "waived", "error": "not compared",
}  # fmt: skip


@dataclass(frozen=True)
class Outcome:
    """One thing with what came of it.

    Attributes:
        suite: what it belongs to: a folder, a case.
        name: within that.
        title: both of them, as a line of a table begins.
        message: why it has its status, and what explains a difference.
        lines: what else is known, for whoever reads the log.
        severity: 0 to 1; of one status the greater comes first.
    """

    suite: str
    name: str
    title: str
    status: Status
    message: str
    lines: tuple[str, ...] = ()
    severity: float = 0.0


def totals(outcomes: Sequence[Outcome], what: str) -> str:
    """As "24 pairs: 1 failed, 2 changed, 21 passed". Args: what: one of them, as "pair"."""
    found = Counter(one.status for one in outcomes)
    parts = [f"{found[status]} {_SAID[status]}" for status in STATUSES if found[status]]
    return f"{counted(len(outcomes), what)}: {', '.join(parts) or 'nothing to check'}"


def worst_first(outcomes: Iterable[Outcome]) -> list[Outcome]:
    """By status, then by severity, then by name."""
    return sorted(outcomes, key=lambda one: (STATUSES.index(one.status), -one.severity, one.title))


def outcome_of_cell(
    case: str, condition: str, verdict: VerdictName, why: str, decision: str | None, ink: float, lines: Iterable[str]
) -> Outcome:
    """A cell as build servers see it: waived where a decision holds.

    Args:
        decision: what was decided and holds; None where nothing was.
        lines: what else is known of it.
    """
    status = _STATUS[verdict]
    if decision is not None and status != "pass":
        status, why = "waived", f"{why}; {decision}" if why else decision
    told = why or ("under way" if status == "waiting" else "")
    return Outcome(case, condition, f"{case}, {condition}", status, told, tuple(lines), ink)
