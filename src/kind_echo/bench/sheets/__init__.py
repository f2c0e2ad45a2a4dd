"""The sheet of a run, its findings, trends, and one run compared with another."""

from kind_echo.bench.sheets.across import compare_missing, parse_against
from kind_echo.bench.sheets.by_build import Worst, worst_by_measure
from kind_echo.bench.sheets.overview import EffectStanding, Old, Overview, PlanStanding, overview
from kind_echo.bench.sheets.pictures import pictures_of
from kind_echo.bench.sheets.sheet import Sheet, SheetCell, SheetFinding, limits_in, sheet_of, siblings_of, usual_measure
from kind_echo.bench.sheets.trends import (
    USUAL_MEASURES,
    Line,
    Trend,
    case_name,
    case_worth_opening,
    cases_over_builds,
    runs_of_plan,
    trend_of,
    worth_showing,
)

__all__ = [
    "USUAL_MEASURES",
    "EffectStanding",
    "Line",
    "Old",
    "Overview",
    "PlanStanding",
    "Sheet",
    "SheetCell",
    "SheetFinding",
    "Trend",
    "Worst",
    "case_name",
    "case_worth_opening",
    "cases_over_builds",
    "compare_missing",
    "limits_in",
    "overview",
    "parse_against",
    "pictures_of",
    "runs_of_plan",
    "sheet_of",
    "siblings_of",
    "trend_of",
    "usual_measure",
    "worst_by_measure",
    "worth_showing",
]
