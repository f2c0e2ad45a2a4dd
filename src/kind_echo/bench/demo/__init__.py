"""The demo: its effects, plans, runs and people."""

from kind_echo.bench.demo.building import decide_demo_run, load_demo

__all__ = [
    "decide_demo_run",
    "load_demo",
]
