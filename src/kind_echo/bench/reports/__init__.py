"""Reports: of a run, a pair, a set, a listening test and a build, as one HTML file or as PDF."""

from kind_echo.bench.reports.document import Report
from kind_echo.bench.reports.of_files import listening_report, set_report
from kind_echo.bench.reports.of_many import draw_overlay, draw_trend
from kind_echo.bench.reports.of_pair import cell_report, pair_report
from kind_echo.bench.reports.of_release import release_report
from kind_echo.bench.reports.of_run import run_report
from kind_echo.bench.reports.paper import Form, Paper, check_report, file_name, html_text, write_report
from kind_echo.bench.reports.pictures import write_plots

__all__ = [
    "Form",
    "Paper",
    "Report",
    "cell_report",
    "check_report",
    "draw_overlay",
    "draw_trend",
    "file_name",
    "html_text",
    "listening_report",
    "pair_report",
    "release_report",
    "run_report",
    "set_report",
    "write_plots",
    "write_report",
]
