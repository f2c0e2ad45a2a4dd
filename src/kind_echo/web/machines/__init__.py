"""Render machines."""
