"""The demo: its effects, plans, runs and people."""

from kind_echo.bench.demo.building import load_demo, settle

__all__ = [
    "load_demo",
    "settle",
]
