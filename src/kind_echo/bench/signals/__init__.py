"""Signals, the stimuli made of them, and uploaded files."""
