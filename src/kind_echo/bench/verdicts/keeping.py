"""Writing a verdict into its cell, and taking it out again."""

from collections.abc import Mapping

from kind_echo.bench.documents import verdict_document
from kind_echo.core.verdicts.rules import RULES_VERSION, not_rendered, under_way
from kind_echo.core.verdicts.verdict import Verdict
from kind_echo.database.models import Cell
from kind_echo.wording.verdicts import sentence


def keep_verdict(cell: Cell, verdict: Verdict, measured: Mapping[str, float]) -> None:
    """Say what has come of a cell, which is done then.

    Args:
        measured: readings of all channels together, by measure.
    """
    _write(cell, verdict, measured)
    cell.state = "done"


def give_up_cell(cell: Cell, reason: str) -> None:
    """Say of a cell why it has no render, and so no reading."""
    _write(cell, not_rendered(reason), {})
    cell.state = "failed"


def forget_verdict(cell: Cell) -> None:
    """A cell is under way again: nothing is said of it."""
    _write(cell, under_way(), {})


def _write(cell: Cell, verdict: Verdict, measured: Mapping[str, float]) -> None:
    cell.verdict, cell.facts, cell.why = verdict.name, verdict_document(verdict), sentence(verdict)
    cell.ink, cell.unfit, cell.broken = verdict.ink, verdict.unfit, list(verdict.broken)
    cell.measured, cell.rules = dict(measured), RULES_VERSION
