"""Uploads."""
