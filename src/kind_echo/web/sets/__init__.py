"""Sets of own files."""
