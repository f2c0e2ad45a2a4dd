"""Schedules: plans that run by themselves on the newest build of their effects."""

from kind_echo.bench.schedules.keeping import (
    add_schedule,
    all_schedules,
    next_time,
    pause_schedule,
    plans_of,
    remove_schedule,
    run_due,
)
from kind_echo.database.models import Schedule

__all__ = [
    "Schedule",
    "add_schedule",
    "all_schedules",
    "next_time",
    "pause_schedule",
    "plans_of",
    "remove_schedule",
    "run_due",
]
