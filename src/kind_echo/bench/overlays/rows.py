"""What is laid over each other: a row each, with its audio and the curves that were measured of it."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

from kind_echo.core.registry.documents import CurveDocument
from kind_echo.core.registry.errors import Invalid
from kind_echo.core.registry.readings import Curve
from kind_echo.database.models import Content
from kind_echo.wording.figures import counted

What = Literal["file", "render", "build"]

MOST_LINES = 40
"""Rows that one picture has room for."""


class TooManyLines(Invalid):
    """More rows are to be laid over each other than a picture has room for."""

    def __init__(self, wanted: int) -> None:
        self.wanted = wanted
        super().__init__(f"{counted(wanted, 'line')} are more than a picture has room for: mark {MOST_LINES} at most.")


class NothingToDraw(Invalid):
    """Nothing was named that could be laid over each other."""

    def __init__(self) -> None:
        super().__init__("Nothing is marked that could be drawn: mark files, or cells that have been rendered.")


NOT_MEASURED = "was not measured for it"
_WITHOUT = {
    "measuring": "is being measured", "failed": "could not be measured",
    "done": "was measured before curves were kept: measure again",
}  # fmt: skip


def why_without(state: str, curves: Sequence[CurveDocument]) -> str:
    """Why a file of a set has no curve of a kind, by its state and what curves it has."""
    return NOT_MEASURED if curves else _WITHOUT[state]


@dataclass(frozen=True)
class Row:
    """One line to be.

    Attributes:
        number: of the file or the cell; 0 for the approved reference.
        label: what tells it from the others.
        content: its audio; None while there is none.
        curves: what was measured of it, by name.
        without: why there is no curve of it, where it has none.
    """

    number: int
    label: str
    content: Content | None
    curves: dict[str, Curve] = field(default_factory=dict)
    without: str = NOT_MEASURED


@dataclass(frozen=True)
class Rows:
    """Rows that are drawn alike.

    Attributes:
        rows: in order.
        reference: number of the row that the others are held against; None for none.
        shared: what all of them have in common, in words.
        what: what each of them is.
    """

    rows: Sequence[Row]
    reference: int | None
    shared: str
    what: What

    @property
    def over_time(self) -> bool:
        """Whether they follow each other, oldest first."""
        return self.what == "build"


def curves_from(documents: Sequence[CurveDocument]) -> dict[str, Curve]:
    """Curves by name, from how they are kept."""
    return {one["name"]: Curve(one["x_unit"], one["y_unit"], one["x"], one["y"]) for one in documents}


def telling(parts: Sequence[Sequence[str]], worth: int) -> tuple[list[str], list[str]]:
    """What tells each from the others, and what all have in common, of as many parts each.

    A part that tells nothing that those before it do not tell is left out. A single one is told by all of its parts.
    Two that no part tells apart are told by their number among those alike.

    Args:
        worth: how many parts, from the first, are worth telling where all have them in common.
    """
    columns = [list(values) for values in zip(*parts, strict=True)]
    common = [values[0] for values in columns[:worth] if len(set(values)) == 1 and values[0]]
    chosen = [values for values in columns if len(set(values)) > 1]
    told = len(set(zip(*chosen, strict=True)))
    for values in reversed(chosen.copy()):
        fewer = [other for other in chosen if other is not values]
        if len(set(zip(*fewer, strict=True))) == told:
            chosen = fewer
    if not chosen:
        chosen, common = columns[:worth], []
    labels = [", ".join(filter(None, one)) for one in zip(*chosen, strict=True)]
    turns = [labels[:i].count(label) + 1 for i, label in enumerate(labels)]
    return [
        label if labels.count(label) == 1 else f"{label} ({turn})" for label, turn in zip(labels, turns, strict=True)
    ], common
