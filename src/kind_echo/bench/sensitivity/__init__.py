"""What a plan would miss: faults planted into copies of its approved renders, found by workers and kept by digest."""

from kind_echo.bench.sensitivity.asking import PlanCell, TooManyCells, ask, planned_cells
from kind_echo.bench.sensitivity.finding import find
from kind_echo.bench.sensitivity.finding import give_up as give_up_planting
from kind_echo.bench.sensitivity.telling import Closing, PlanTold, tell, tell_of_run

__all__ = [
    "Closing",
    "PlanCell",
    "PlanTold",
    "TooManyCells",
    "ask",
    "find",
    "give_up_planting",
    "planned_cells",
    "tell",
    "tell_of_run",
]
