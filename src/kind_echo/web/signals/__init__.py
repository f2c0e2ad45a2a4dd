"""Signals."""
