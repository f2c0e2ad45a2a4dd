"""Hosts."""
