"""Comparisons of two of a person's own files."""
