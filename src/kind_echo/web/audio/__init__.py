"""Audio to look at and to listen to."""
