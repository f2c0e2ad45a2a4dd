"""What a report is made of: sections of texts, tables, entries, a grid of cells, pictures. All text in it is plain."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import ClassVar, Literal

Look = Literal["pass", "fail", "changed", "decided", "no reading", "waiting", "under way"]
"""How a cell of a grid is drawn."""


@dataclass(frozen=True)
class Text:
    """A paragraph; a loud one is what the eye should meet first, a quiet one the last."""

    kind: ClassVar = "text"
    text: str
    look: Literal["plain", "loud", "quiet"] = "plain"


@dataclass(frozen=True)
class Counts:
    """Names with how many there are."""

    kind: ClassVar = "counts"
    values: Sequence[tuple[str, int]]


@dataclass(frozen=True)
class Entry:
    """Something with a name in bold, what stands beside that, and lines under it."""

    name: str
    beside: str = ""
    lines: Sequence[str] = ()


@dataclass(frozen=True)
class Entries:
    """Entries; numbered ones begin with 1."""

    kind: ClassVar = "entries"
    entries: Sequence[Entry]
    numbered: bool = False


@dataclass(frozen=True)
class Table:
    """A table of texts.

    Attributes:
        widths: of its columns, in per cent.
        figures: places of the columns that hold numbers.
        fine: set small, for there are many rows.
        title: what stands over it.
    """

    kind: ClassVar = "table"
    columns: Sequence[str]
    rows: Sequence[Sequence[str]]
    widths: Sequence[int]
    figures: Sequence[int] = ()
    fine: bool = False
    title: str = ""


@dataclass(frozen=True)
class Mark:
    """A cell of a grid.

    Attributes:
        ink: 0 to 1.
        words: the same for who does not see it.
    """

    look: Look
    ink: float
    words: str


@dataclass(frozen=True)
class Grid:
    """Cells as ink.

    Attributes:
        heads: rows of heads over the columns: names with how many columns each spans.
        rows: names with a mark, or None, for each column.
    """

    kind: ClassVar = "grid"
    corner: str
    heads: Sequence[Sequence[tuple[str, int]]]
    rows: Sequence[tuple[str, Sequence[Mark | None]]]
    legend: str

    @property
    def columns(self) -> int:
        """How many there are."""
        return sum(span for _, span in self.heads[-1])


@dataclass(frozen=True)
class Picture:
    """A picture as PNG, and what it shows."""

    kind: ClassVar = "picture"
    png: bytes
    caption: str


Part = Text | Counts | Entries | Table | Grid | Picture


@dataclass(frozen=True)
class Section:
    """Parts under a heading; an appendix begins on a page of its own."""

    title: str
    parts: Sequence[Part]
    appendix: bool = False


@dataclass(frozen=True)
class Report:
    """A report.

    Attributes:
        name: what its file is called, without the ending.
        title: what it is of, in bold, at the head.
        told: the rest of that sentence.
        facts: lines under it.
        address: of the page that shows what it is of; empty where none is known.
        made: when, in UTC.
    """

    name: str
    title: str
    told: str
    facts: Sequence[str]
    sections: Sequence[Section]
    made: datetime
    address: str = ""
