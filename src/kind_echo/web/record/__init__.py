"""Who did what."""
