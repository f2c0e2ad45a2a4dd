"""Plots as SVG or PNG, by the ending of the file. They need matplotlib, the extra `plots`."""

from kind_echo.plots.figures import check_plot
from kind_echo.plots.measured import draws, plot_measured
from kind_echo.plots.overlays import plot_overlay
from kind_echo.plots.pairs import COLUMNS, Drawn, plot_pair
from kind_echo.plots.trends import TrendLine, plot_trends

__all__ = [
    "COLUMNS",
    "Drawn",
    "TrendLine",
    "check_plot",
    "draws",
    "plot_measured",
    "plot_overlay",
    "plot_pair",
    "plot_trends",
]
