"""Runs and their sheets."""
