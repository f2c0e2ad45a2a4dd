"""Listening: sides side by side, blind tests, sittings, results and notes."""
