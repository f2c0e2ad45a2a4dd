"""The states and kinds of rows, each named once: the tables, the API and the page follow these."""

from typing import Any, Literal, get_args

from sqlalchemy import CheckConstraint

CellState = Literal["waiting", "rendering", "analysing", "done", "failed"]
PairState = Literal["analysing", "done", "failed"]
FileState = Literal["measuring", "done", "failed"]
KitFileState = Literal["received", "matched", "doubtful", "unknown"]
SittingState = Literal["open", "done", "broken off"]
NoticeState = Literal["waiting", "sent", "failed"]

Against = Literal["reference", "signal"]
FileRole = Literal["file", "reference", "input"]
TestKind = Literal["abx", "rating", "order"]
TargetKind = Literal["webhook", "email"]
DecisionKind = Literal["accepted", "fault", "waived"]

FINISHED: tuple[CellState, ...] = ("done", "failed")
"""States of a cell of which nothing is under way."""


def one_of(column: str, names: Any) -> CheckConstraint:
    """A column that holds one of the names of a literal type."""
    listed = ", ".join(f"'{name}'" for name in get_args(names))
    return CheckConstraint(f"{column} IN ({listed})", name=column)
