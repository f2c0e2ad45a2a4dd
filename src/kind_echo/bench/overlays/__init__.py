"""Curves of many over each other: of the files of a set, the cells of runs, and one cell over builds."""

from kind_echo.bench.overlays.drawing import Drawn, LeftOut, NoLines, draw_rows
from kind_echo.bench.overlays.gathering import rows_of_cells, rows_of_set, rows_over_builds
from kind_echo.bench.overlays.rows import MOST_LINES, Row, Rows, What

__all__ = [
    "MOST_LINES",
    "Drawn",
    "LeftOut",
    "NoLines",
    "Row",
    "Rows",
    "What",
    "draw_rows",
    "rows_of_cells",
    "rows_of_set",
    "rows_over_builds",
]
