"""What a plan would miss: faults planted into copies of its approved renders, found by workers and kept by digest."""

from kind_echo.bench.sensitivity.asking import PlanCell, TooManyCells, planned_cells, request_sensitivity
from kind_echo.bench.sensitivity.finding import find_noticed
from kind_echo.bench.sensitivity.finding import give_up as give_up_planting
from kind_echo.bench.sensitivity.telling import Closing, PlanSensitivity, plan_sensitivity, run_sensitivity

__all__ = [
    "Closing",
    "PlanCell",
    "PlanSensitivity",
    "TooManyCells",
    "find_noticed",
    "give_up_planting",
    "plan_sensitivity",
    "planned_cells",
    "request_sensitivity",
    "run_sensitivity",
]
