"""People and tokens."""
