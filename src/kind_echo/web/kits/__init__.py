"""Kits."""
