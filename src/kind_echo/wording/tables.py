"""Tables that leave the product as CSV."""

import csv
import io
import math
from collections.abc import Iterable, Sequence

from kind_echo.core.registry.readings import Reading

_FORMULA = ("=", "+", "-", "@", "\t")
"""What a text begins with that a spreadsheet takes for a formula: OWASP, CSV Injection."""

READING_COLUMNS = ("path", "measure", "channel", "value", "unit", "at_most", "uncertainty", "why")
"""Of a table with a line a reading."""


def reading_row(path: str, reading: Reading) -> tuple[object, ...]:
    """A reading of a file as a line of that table; a bound only where it is finite."""
    at_most = reading.at_most if reading.at_most is not None and math.isfinite(reading.at_most) else None
    spread = reading.uncertainty
    return path, reading.measure, reading.channel, reading.value, reading.unit, at_most, spread, reading.why


def csv_text(rows: Iterable[Sequence[object]]) -> str:
    """Rows as CSV (RFC 4180, lines that end in LF): nothing for None, and no text that is taken for a formula.

    Numbers stay numbers, in Python's own notation.
    """
    text = io.StringIO()
    csv.writer(text, lineterminator="\n").writerows([_cell(value) for value in row] for row in rows)
    return text.getvalue()


def _cell(value: object) -> object:
    if not isinstance(value, str):
        return "" if value is None else value
    # A carriage return alone would end a line, for the writer quotes its own line ends only.
    text = value.replace("\r\n", "\n").replace("\r", "\n")
    return f"'{text}" if text.startswith(_FORMULA) else text
