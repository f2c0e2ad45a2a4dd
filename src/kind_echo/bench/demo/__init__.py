"""The demo: its effects, plans, runs and people."""
