"""What a table to take away is: columns, and rows that come one after the other, for there may be many."""

import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import islice

from kind_echo.wording.tables import csv_text

SCHEMA = "kind-echo table 1"
"""Of tables as JSON: its number is raised when a column changes its meaning."""

_ROWS = 500  # of a piece that is sent

Row = Sequence[str | float | bool | None]


@dataclass(frozen=True)
class Table:
    """A table.

    Attributes:
        name: of what it lists.
        rows: as many values each as there are columns; None where there is nothing to say.
    """

    name: str
    columns: tuple[str, ...]
    rows: Iterable[Row]

    def csv(self) -> Iterator[str]:
        """As CSV, in pieces."""
        yield csv_text([self.columns])
        for rows in _pieces(self.rows):
            yield csv_text(rows)

    def json(self) -> Iterator[str]:
        """As one JSON object, in pieces: "rows" is a list of objects whose keys are the columns."""
        head = json.dumps({"schema": SCHEMA, "table": self.name, "columns": self.columns}, ensure_ascii=False)
        yield f'{head[:-1]}, "rows": ['
        before = "\n"
        for rows in _pieces(self.rows):
            told = (dict(zip(self.columns, row, strict=True)) for row in rows)
            yield before + ",\n".join(json.dumps(one, ensure_ascii=False, allow_nan=False) for one in told)
            before = ",\n"
        yield "\n]}\n"


def _pieces(rows: Iterable[Row]) -> Iterator[list[Row]]:
    rest = iter(rows)
    while piece := list(islice(rest, _ROWS)):
        yield piece
