"""Cells of runs, and rendering them again."""
