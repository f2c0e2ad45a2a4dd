"""Health and metrics."""
