"""One file by itself: levels, loudness, integrity, cost."""
