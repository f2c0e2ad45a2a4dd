"""References."""
