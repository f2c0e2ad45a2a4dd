"""Searches for the first build that differs."""
