"""For ears: matching levels, odds of blind tests, lossy copies."""
