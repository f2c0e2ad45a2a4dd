"""Tables to take away: rows of plain values, for spreadsheets and scripts."""

from kind_echo.bench.tables.listed import decisions_table, record_table, references_table, runs_table, trend_table
from kind_echo.bench.tables.of_runs import cells_table, readings_table
from kind_echo.bench.tables.table import SCHEMA, Table

__all__ = [
    "SCHEMA",
    "Table",
    "cells_table",
    "decisions_table",
    "readings_table",
    "record_table",
    "references_table",
    "runs_table",
    "trend_table",
]
