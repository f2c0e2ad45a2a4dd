"""Decisions."""
